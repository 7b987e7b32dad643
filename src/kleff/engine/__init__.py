"""Survey, preview, run, verify. Phases in order; nothing here knows a kind of object."""
