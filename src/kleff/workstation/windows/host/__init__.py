"""A Windows on which Kleff itself runs: where it keeps cases, and how it starts programs."""
