"""The bag: saved data as anyone can read it, written, sealed, opened and given back."""
