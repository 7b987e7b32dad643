"""The kinds of object a procedure can name, one file each."""
