"""In which module of `kleff.objects` each kind stands, and in which phases it has a step. Made by scripts/make_tables.py."""

from typing import NamedTuple


class Entry(NamedTuple):
    """A module, which offers its kinds as `KINDS`, and phases."""

    module: str
    phases: tuple[str, ...]


KINDS = {
    "path": Entry("paths.kind", ("evidence", "before")),
    "paths": Entry("paths.kind", ("backup", "delete", "verify")),
    "lines": Entry("texts.lines", ("evidence", "before", "delete", "verify")),
    "key": Entry("keys.kind", ("evidence", "before", "backup", "delete", "verify")),
    "value": Entry("keys.kind", ("evidence", "backup", "delete", "verify")),
    "process": Entry("processes", ("evidence", "stop", "verify")),
    "service": Entry("services.kind", ("evidence", "before", "backup", "stop", "delete", "verify")),
    "entry": Entry("entries.kind", ("evidence", "before", "uninstall", "verify")),
    "package": Entry("packages.kind", ("evidence", "before", "purge", "verify")),
    "command": Entry("commands.kind", ("evidence", "backup", "stop", "uninstall", "after")),
    "command_missing": Entry("commands.kind", ("verify",)),
    "fact": Entry("facts", ("backup",)),
    "driver": Entry("drivers.kind", ("evidence", "before", "backup", "uninstall", "verify")),
    "driver_files": Entry("drivers.files", ()),
    "packages": Entry("facts", ("backup",)),
    "manual": Entry("manual", ("before", "stop", "after")),
    "holder": Entry("holders", ()),
    "rescue": Entry("paths.rescue", ()),
    "window": Entry("processes", ("stop",)),
    "port": Entry("processes", ("evidence", "stop")),
    "task": Entry("tasks", ("stop", "delete", "verify")),
    "startup": Entry("startup", ("stop",)),
    "unit": Entry("services.units", ("stop",)),
    "variable": Entry("commands.variables", ("evidence", "before")),
    "units_of": Entry("services.units_of", ("delete",)),
    "trash_of": Entry("trash", ("delete",)),
    "python": Entry("python.kind", ("evidence", "before", "purge", "verify")),
    "source": Entry("packages.sources", ("delete",)),
    "alternatives_to": Entry("packages.alternatives", ("delete",)),
    "flatpak": Entry("packages.flatpaks", ("evidence", "before", "purge", "verify")),
    "module": Entry("modules", ("evidence", "before", "verify")),
    "shadowed_by": Entry("packages.shadowed", ("purge",)),
    "publisher": Entry("entries.kind", ("evidence", "before", "uninstall")),
    "product_code": Entry("entries.kind", ("uninstall",)),
    "cached_package": Entry("entries.kind", ("uninstall",)),
    "list_item": Entry("texts.list_items", ("delete", "verify")),
    "section": Entry("texts.sections", ("delete", "verify")),
    "temp": Entry("temporary", ("delete",)),
    "shortcuts_to": Entry("shortcuts", ("delete", "verify")),
    "key_glob": Entry("keys.patterns", ("delete", "verify")),
    "recent": Entry("shortcuts", ("delete", "verify")),
    "firewall": Entry("registered.firewall", ("delete", "verify")),
    "app_path": Entry("registered.classes", ("delete", "verify")),
    "protocol": Entry("registered.classes", ("delete", "verify")),
    "com_class": Entry("registered.classes", ("delete", "verify")),
    "file_type": Entry("registered.file_types", ("delete", "verify")),
    "font": Entry("registered.fonts", ("delete", "verify")),
    "print_queue": Entry("registered.printing", ("delete", "verify")),
    "certificate": Entry("registered.certificates", ("delete", "verify")),
    "made_account": Entry("registered.made_accounts", ("delete", "verify")),
    "account": Entry("accounts", ("evidence", "before", "delete", "verify")),
    "group": Entry("accounts", ("evidence", "before", "delete", "verify")),
    "power": Entry("readiness", ("before",)),
    "rights": Entry("readiness", ("before",)),
    "restart": Entry("readiness", ("before",)),
    "installers": Entry("readiness", ("before",)),
    "signed_in": Entry("readiness", ("before",)),
    "bits": Entry("readiness", ("before",)),
    "system_version": Entry("readiness", ("before",)),
}
# Those that have a say in every plan, also where no step names them.
OF_WHOLE = ("entry", "package", "driver_files", "holder", "rescue")
