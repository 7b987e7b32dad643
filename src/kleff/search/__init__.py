"""Looking for what nobody has named yet."""
