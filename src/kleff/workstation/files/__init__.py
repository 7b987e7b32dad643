"""Files by handles: the protocol, and what stands on it whatever the system."""
