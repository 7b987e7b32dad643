"""Packages of the package manager."""
