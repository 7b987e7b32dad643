"""Drivers: their settings saved, their packages removed with their devices."""
