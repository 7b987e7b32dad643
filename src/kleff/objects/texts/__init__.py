"""What stands in texts that others use too: lines, sections, items of lists."""
