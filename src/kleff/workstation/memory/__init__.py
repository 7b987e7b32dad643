"""A workstation in memory: nothing of it is on a disk, and it is made in no time; for tests, and for what asks "what if"."""
