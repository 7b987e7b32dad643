"""What `kleff lab show` shows."""

from __future__ import annotations

from pathlib import Path

from kleff.registry.registry import KeyRef
from kleff.report.documents import LabDocument, LabEntryInfo, LabProcessInfo
from kleff.report.lines import Page
from kleff.report.making import workstation_info
from kleff.texts import plural, size
from kleff.workstation.lab.lab import Lab
from kleff.workstation.lab.workstation import open_lab
from kleff.workstation.paths import WPath


def lab_document(folder: Path) -> LabDocument:
    """Look at a lab."""
    workstation = open_lab(folder)
    registry, entries, processes = workstation.registry, workstation.entries, workstation.processes
    assert registry is not None
    assert entries is not None
    assert processes is not None
    measures = [workstation.files.measure(WPath(workstation.style, v, ())) for v in workstation.files.volumes]
    hives = [registry.tree(KeyRef("HKLM", top)) for top in registry.api.subkeys("HKLM", "") or []]
    hives += [registry.tree(KeyRef("HKU", sid)) for sid in registry.api.hives()]
    return LabDocument(
        kleff="lab",
        workstation=workstation_info(workstation),
        boot=workstation.boot,
        accounts=[a.name for a in workstation.accounts.all() if a.ordinary],
        files=sum(m.files for m in measures),
        size=sum(m.size for m in measures),
        keys=sum(h.count()[0] for h in hives if h is not None),
        entries=[LabEntryInfo(name=e.name, version=e.version) for e in entries.all()],
        services=sorted(Lab(folder).state().running_services),
        processes=[LabProcessInfo(pid=p.pid, name=p.name, account=p.account) for p in processes.all()],
    )


def lab_page(document: LabDocument) -> Page:
    """The same for people."""
    page = Page()
    page.row((document.workstation.name, "head"), (f", {document.workstation.description} ({document.workstation.spec})", "plain"))
    page.add(f"  boot {document.boot.rpartition(' ')[2]}, accounts {', '.join(document.accounts)}")
    page.add(f"  {plural(document.files, 'file')}, {size(document.size)}, {plural(document.keys, 'registry key')}")
    page.head("Registered products")
    for entry in document.entries:
        page.add(f"  {entry.name}" + (f" ({entry.version})" if entry.version not in entry.name else ""))
    page.head("Running")
    for service in document.services:
        page.add(f"  service {service}")
    for process in document.processes:
        page.add(f"  {process.pid:>6}  {process.name:<18} {process.account}")
    return page
