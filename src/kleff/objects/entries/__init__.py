"""Products registered as installed: which a step means, the ways in which they are removed, and how one is followed to its end."""
