"""What is set aside, spared or deleted for good."""
