"""What a step about registered products would find on a lab."""

from __future__ import annotations

from typing import Any

from kleff.objects.base.staging import Stage, shown_as
from kleff.objects.entries.steps import CachedUninstall, ProductUninstall, Removing
from kleff.procedure.globs import name_matches
from kleff.procedure.loaded import LoadedStep


def put_product(step: LoadedStep, stage: Stage) -> None:
    """The product that it means, registered, with an uninstaller."""
    model, product = step.model, stage.here.procedure.product
    entry, publisher = getattr(model, "entry", ""), getattr(model, "publisher", "")
    name = shown_as(entry) if entry else product.name
    if isinstance(model, CachedUninstall):
        code = "{5A3B1111-0000-4000-8000-00000000005A}"
        stage.add("package", path=r"C:\Windows\Installer\5a3b.msi", subject=shown_as(model.cached_package), product_code=code)
        stage.add("program", product_code=code, deletes=[stage.home])
        return
    by = shown_as(publisher) if publisher else product.vendor or "Sample"
    goes = [e for s in stage.here.procedure.phase("uninstall") if (e := getattr(s.model, "entry", ""))]
    if step.phase == "evidence" and goes and not any(name_matches(e, name, True) for e in goes):  # a relative, which stays
        stage.add("product", name=name, title=name, publisher=by, version="0.1", files=["sample.exe"], behaves={})
        return
    said: dict[str, Any] = {"name": name, "title": name, "publisher": by, "version": stage.version, "folder": stage.home}
    said |= {"files": ["sample.exe"], "behaves": {}}
    if isinstance(model, ProductUninstall):
        said["product_code"] = model.product_code
    if isinstance(model, Removing) and model.quiet and "\\" in model.quiet[0]:
        stage.program(model.quiet[0])
    rows = stage.tables.setdefault("product", [])
    known = next((row for row in rows if row["name"] == name), None)
    if known is None:
        rows.append(said)
    elif publisher:  # an earlier step did not say whose it is
        known["publisher"] = by
