"""Kleff removes a product from a workstation by a written procedure, and can take it back."""

__version__ = "0.2.0"
