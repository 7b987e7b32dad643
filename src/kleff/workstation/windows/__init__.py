"""What a Windows workstation keeps in its registry, read the same way on a real one and on a lab."""
