"""What is said of a procedure by itself, on no workstation."""
