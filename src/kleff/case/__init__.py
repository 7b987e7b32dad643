"""What makes a run safe: guard, journal, bag, set-aside area, undo, discard."""
