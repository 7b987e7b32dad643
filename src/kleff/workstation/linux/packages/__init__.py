"""Packages by dpkg and apt."""
