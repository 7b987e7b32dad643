"""Cases: run, gone on with, restored from, taken back, and told."""
