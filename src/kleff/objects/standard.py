"""The kinds of object that ship with Kleff. One of them is one file here (and one for its effect, if it needs a new one)."""

from kleff.objects import accounts
from kleff.objects.base.kind import register
from kleff.objects.commands.kind import CommandKind, CommandMissingKind
from kleff.objects.commands.variables import VariableKind
from kleff.objects.drivers.files import DriverFilesKind
from kleff.objects.drivers.kind import DriverKind
from kleff.objects.entries.kind import CachedKind, EntryKind, ProductKind, VendorKind
from kleff.objects.facts import FactKind, PackagesKind
from kleff.objects.holders import HolderKind
from kleff.objects.keys.kind import KeyKind, ValueKind
from kleff.objects.keys.patterns import KeyGlobKind
from kleff.objects.manual import ManualKind
from kleff.objects.modules import ModuleKind
from kleff.objects.packages.alternatives import AlternativesKind
from kleff.objects.packages.flatpaks import FlatpakKind
from kleff.objects.packages.kind import PackageKind
from kleff.objects.packages.shadowed import ShadowedKind
from kleff.objects.packages.sources import SourceKind
from kleff.objects.paths.kind import PathKind
from kleff.objects.paths.rescue import RescueKind
from kleff.objects.processes import PortKind, ProcessKind, WindowKind
from kleff.objects.python.kind import PythonKind
from kleff.objects.readiness import CHECKS, CheckKind
from kleff.objects.registered.certificates import CERTIFICATE
from kleff.objects.registered.classes import APP_PATH, COM_CLASS, PROTOCOL
from kleff.objects.registered.file_types import FileTypeKind
from kleff.objects.registered.firewall import FIREWALL
from kleff.objects.registered.fonts import FontKind
from kleff.objects.registered.found import RegisteredKind
from kleff.objects.registered.made_accounts import MadeAccountKind
from kleff.objects.registered.printing import QUEUE
from kleff.objects.services.kind import ServiceKind
from kleff.objects.services.units import UnitKind
from kleff.objects.services.units_of import UnitsKind
from kleff.objects.shortcuts import RecentKind, ShortcutsKind
from kleff.objects.startup import StartupKind
from kleff.objects.tasks import TaskKind
from kleff.objects.temporary import TemporaryKind
from kleff.objects.texts.lines import LinesKind
from kleff.objects.texts.list_items import ListItemKind
from kleff.objects.texts.sections import SectionKind
from kleff.objects.trash import TrashKind

register(
    PathKind(), LinesKind(), KeyKind(), ValueKind(), ProcessKind(), ServiceKind(), EntryKind(), PackageKind(), CommandKind(),
    CommandMissingKind(), FactKind(), DriverKind(), DriverFilesKind(), PackagesKind(), ManualKind(), HolderKind(), RescueKind(),
    WindowKind(), PortKind(), TaskKind(), StartupKind(), UnitKind(), VariableKind(), UnitsKind(), TrashKind(), PythonKind(),
    SourceKind(), AlternativesKind(), FlatpakKind(), ModuleKind(), ShadowedKind(), VendorKind(), ProductKind(), CachedKind(),
    ListItemKind(), SectionKind(), TemporaryKind(), ShortcutsKind(), KeyGlobKind(), RecentKind(), RegisteredKind(FIREWALL),
    RegisteredKind(APP_PATH), RegisteredKind(PROTOCOL), RegisteredKind(COM_CLASS), FileTypeKind(), FontKind(), RegisteredKind(QUEUE),
    RegisteredKind(CERTIFICATE), MadeAccountKind(), *accounts.KINDS, *(CheckKind(name) for name in CHECKS),
)  # fmt: skip
