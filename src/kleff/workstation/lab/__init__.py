"""A simulated workstation in a folder: only the lowest layer is simulated."""
