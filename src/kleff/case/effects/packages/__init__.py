"""Effects on what package managers keep."""
