"""The names of the effect kinds, as they stand in journals."""

MOVED, KEY, VALUE, SERVICE = "moved", "key removed", "value removed", "service changed"
PROCESS, UNINSTALLER, PACKAGE = "process ended", "uninstaller ran", "package removed"
TASK, UNIT = "task switched off", "unit stopped"
STAGED, PLACED, WRITTEN, COMMAND = "prepared", "put in place", "key written", "command ran"
