"""Services, and what a service manager keeps of them."""
