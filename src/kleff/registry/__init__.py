"""The registry: keys, values, views and `.reg` text, whoever keeps it."""
