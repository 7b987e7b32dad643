"""What the systems share."""
