"""Files and folders: saved, set aside, restored; and people's own documents, rescued from them."""
