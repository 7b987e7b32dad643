"""Linux workstations: the machine itself, and a tree that is not running."""
