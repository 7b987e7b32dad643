"""The procedure file: loading with places, variables, globs, versions. Knows no workstation."""
