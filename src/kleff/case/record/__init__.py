"""What a case knows: its journal, its folder, and the mark of an unfinished one."""
