"""Registry keys and single values."""
