"""How programs are run, and what those that run are."""
