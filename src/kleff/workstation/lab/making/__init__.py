"""Labs from short descriptions: a plain workstation, what is put on it, and how that is written."""
