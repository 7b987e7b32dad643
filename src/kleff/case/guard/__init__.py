"""Which places and keys may be touched."""
