"""The terminal, and what else surrounds the process: streams, signals, drawing."""
