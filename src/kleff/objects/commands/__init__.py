"""The product's own programs: they export its data and take it in again, sign it out, tell facts; and commands that must be gone."""
