"""Effects on what the system starts: services, units of accounts, scheduled tasks."""
