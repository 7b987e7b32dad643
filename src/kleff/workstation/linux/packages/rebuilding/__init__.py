"""Packages built anew and installed again."""
