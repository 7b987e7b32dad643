"""Packages of Python environments."""
