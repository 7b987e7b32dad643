"""What a Windows knows of the software on it: installer products and packages, signatures."""
