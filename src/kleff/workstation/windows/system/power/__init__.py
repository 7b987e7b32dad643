"""Power, sessions, the boot, and starting the system anew."""
