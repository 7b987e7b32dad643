"""Calls of Windows functions: the one place that knows how they are made, what they take and how they fail."""
