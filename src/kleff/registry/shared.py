"""Which parts of `HKLM\\Software` both views share: in the 32-bit one there is a link to the 64-bit key.

As of Windows 7 and Server 2008 R2 ("Registry Keys Affected by WOW64", Windows documentation). Two names are here as it writes them and as
they are found to be written, with a space.
"""

from __future__ import annotations

from kleff.procedure.globs import fold

CLASSES = ("SOFTWARE", "CLASSES")
# Below Classes each view has these for itself.
SEPARATE = frozenset({"CLSID", "DIRECTSHOW", "INTERFACE", "MEDIA TYPE", "MEDIAFOUNDATION"})
_MICROSOFT = r"""
COM3
Cryptography\Calais\Current
Cryptography\Calais\Readers
Cryptography\Services
CTF\SystemShared
CTF\TIP
DFS
Driver Signing
EnterpriseCertificates
EventSystem
MSMQ
Non-Driver Signing
Notepad\DefaultFonts
OLE
RAS
RPC
Shared Tools\MSInfo
SystemCertificates
TermServLicensing
Transaction Server
TransactionServer
Windows\CurrentVersion\App Paths
Windows\CurrentVersion\Control Panel\Cursors\Schemes
Windows\CurrentVersion\Explorer\AutoplayHandlers
Windows\CurrentVersion\Explorer\DriveIcons
Windows\CurrentVersion\Explorer\KindMap
Windows\CurrentVersion\Group Policy
Windows\CurrentVersion\Policies
Windows\CurrentVersion\PreviewHandlers
Windows\CurrentVersion\Setup
Windows\CurrentVersion\Telephony\Locations
Windows NT\CurrentVersion\Console
Windows NT\CurrentVersion\FontDpi
Windows NT\CurrentVersion\FontLink
Windows NT\CurrentVersion\FontMapper
Windows NT\CurrentVersion\Fonts
Windows NT\CurrentVersion\FontSubstitutes
Windows NT\CurrentVersion\Gre_Initialize
Windows NT\CurrentVersion\Image File Execution Options
Windows NT\CurrentVersion\LanguagePack
Windows NT\CurrentVersion\NetworkCards
Windows NT\CurrentVersion\Perflib
Windows NT\CurrentVersion\Ports
Windows NT\CurrentVersion\Print
Windows NT\CurrentVersion\ProfileList
Windows NT\CurrentVersion\Time Zones
"""
SHARED = frozenset({
    *(("SOFTWARE", "MICROSOFT", *fold(line).split("\\")) for line in _MICROSOFT.split("\n") if line),
    ("SOFTWARE", "CLIENTS"), ("SOFTWARE", "POLICIES"), ("SOFTWARE", "REGISTEREDAPPLICATIONS"), ("SOFTWARE", "REGISTERED APPLICATIONS"),
})  # fmt: skip
_DEEPEST = max(map(len, SHARED))


def is_shared(parts: tuple[str, ...]) -> bool:
    """Whether a key below `HKLM` is one that both views share; Classes is not asked for here. Args: parts: folded."""
    return any(parts[:depth] in SHARED for depth in range(2, min(len(parts), _DEEPEST) + 1))
