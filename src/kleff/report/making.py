"""From what the engine found to the documents."""

from __future__ import annotations

from base64 import b64encode

from kleff.engine.choices import Choice
from kleff.engine.finding import Finding, Verification
from kleff.engine.plan import Plan
from kleff.engine.survey import Survey
from kleff.objects.base.action import Action, Sighting
from kleff.objects.base.here import Here
from kleff.procedure.globs import PathStyle
from kleff.procedure.loaded import Procedure
from kleff.report.documents import PreviewDocument, SurveyDocument, VerifyDocument
from kleff.report.parts import ActionInfo, FindingInfo, ProductInfo, SightingInfo, ThingInfo, WorkstationInfo
from kleff.workstation.facets import Workstation
from kleff.workstation.identity import Identity, KeyId, NameId, PathId, exact_base64, shown


def workstation_info(workstation: Workstation) -> WorkstationInfo:
    return WorkstationInfo(
        spec=workstation.spec, name=workstation.name, system=workstation.system, description=workstation.description,
        bits=workstation.bits, admin=workstation.admin,
    )  # fmt: skip


def product_info(procedure: Procedure) -> ProductInfo:
    product = procedure.product
    return ProductInfo(id=product.id, name=product.name, vendor=product.vendor, versions=product.versions, procedure=procedure.name)


def thing_info(identity: Identity, style: PathStyle) -> ThingInfo:
    """What something is, as JSON tells it."""
    text = shown(identity, style)
    if isinstance(identity, PathId):
        return ThingInfo(sort="path", text=text, exact_b64=exact_base64(identity, style))
    if isinstance(identity, KeyId):
        value = None if identity.value is None else _b64(identity.value)
        return ThingInfo(sort="key", text=text, exact_b64=_b64(f"{identity.hive}\\{identity.path}"), view=identity.view, value_b64=value)
    assert isinstance(identity, NameId)
    return ThingInfo(sort="name", text=text, exact_b64=_b64(identity.name), kind=identity.kind, scope=identity.scope)


def _b64(text: str) -> str:
    try:
        return b64encode(text.encode("utf-8", "surrogateescape")).decode()
    except UnicodeEncodeError:  # half a pair that stands for no byte: WTF-8
        return b64encode(text.encode("utf-8", "surrogatepass")).decode()


def action_info(action: Action, workstation: Workstation) -> ActionInfo:
    """An action of a plan."""
    style = workstation.style
    return ActionInfo(
        number=action.number, phase=action.phase, line=action.line, kind=action.kind, label=action.label, verb=action.verb,
        target=action.target, path_b64=action.exact_path(style), about=[thing_info(i, style) for i in action.about],
        account=action.account, state=action.state, reason=action.reason, because=action.because, undo=action.undo,
        final=action.without_return, items=action.items, size=action.size, optional=action.optional, after_restart=action.after_restart,
        kept_inside=[f"{shown(i.what, style)}: {i.reason}" for i in action.stays], shows=action.shows,
    )  # fmt: skip


def sighting_info(sighting: Sighting, style: PathStyle) -> SightingInfo:
    """A piece of evidence."""
    return SightingInfo(
        kind=sighting.kind, what=sighting.what, about=thing_info(sighting.about, style) if sighting.about else None,
        version=sighting.version, where=sighting.where, facts=sighting.facts, account=sighting.account, line=sighting.line,
        in_range=sighting.in_range, unreadable=sighting.unreadable,
    )  # fmt: skip


def finding_info(finding: Finding, style: PathStyle) -> FindingInfo:
    """What a verification found."""
    return FindingInfo(
        state=finding.state, kind=finding.kind, target=finding.target, about=[thing_info(i, style) for i in finding.about],
        reason=finding.reason, line=finding.line, phase=finding.phase, account=finding.account,
    )  # fmt: skip


def preview_document(here: Here, plan: Plan, asked: list[Choice]) -> PreviewDocument:
    """`kleff preview --json`"""
    return PreviewDocument(
        kleff="preview", workstation=workstation_info(here.workstation), product=product_info(here.procedure),
        actions=[action_info(a, here.workstation) for a in plan.actions], choices=asked, holders=plan.holders, silent=plan.silent,
        totals=plan.totals,
        no_return=plan.no_return, refused=bool(plan.refused), present=here.present, elsewhere=plan.elsewhere,
    )  # fmt: skip


def survey_document(workstation: Workstation, procedure: Procedure, found: Survey) -> SurveyDocument:
    """`kleff survey --json`"""
    style = workstation.style
    return SurveyDocument(
        kleff="survey", workstation=workstation_info(workstation), product=product_info(procedure), present=found.present,
        versions=found.versions, evidence=[sighting_info(s, style) for s in found.evidence],
        others=[sighting_info(s, style) for s in found.others], unreadable=[sighting_info(s, style) for s in found.unreadable],
        accounts=found.accounts, running=found.running,
    )  # fmt: skip


def verify_document(workstation: Workstation, procedure: Procedure, result: Verification) -> VerifyDocument:
    """`kleff verify --json`"""
    return VerifyDocument(
        kleff="verify", workstation=workstation_info(workstation), product=product_info(procedure), clean=result.clean,
        gone=result.gone, case=result.case, looked=result.looked, findings=[finding_info(f, workstation.style) for f in result.findings],
        not_known=result.not_known, accounts=result.accounts, left_out=result.left_out,
    )  # fmt: skip
