"""What a workstation offers, facet by facet, and who offers it."""
