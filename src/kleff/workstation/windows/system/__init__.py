"""What a running Windows offers, asked through its own functions: one file for each facet or lowest layer."""
