"""What a product has registered with the system, each found by its name or by the program it leads to."""
