"""The files of a running Windows, by handles: one name at a time below an open folder, and nothing that is a link is followed."""
