"""Certificates that a product has made the workstation trust, by their thumbprint."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator
from struct import unpack_from
from typing import Annotated

from msgspec import Meta

from kleff.objects.base.here import Here
from kleff.objects.base.staging import Stage
from kleff.objects.keys.meaning import meant_keys
from kleff.objects.registered.found import Found, RegisteredKind, Sort
from kleff.procedure.model import AccountStep, Text
from kleff.procedure.texts import Problem
from kleff.registry.registry import Registry

STORES = r"Software\Microsoft\SystemCertificates"
NAMED = ("Root", "CA", "TrustedPublisher", "TrustedPeople", "My")
THE_CERTIFICATE = 32  # the element of a store's value that is the certificate itself (CERT_CERT_PROP_ID, wincrypt.h)
COMMON_NAME = b"\x06\x03\x55\x04\x03"  # 2.5.4.3 in DER (X.520, ITU-T X.690)


class _Certificate(AccountStep, kw_only=True, frozen=True):
    certificate: Annotated[Text, Meta(description="its thumbprint: SHA-1, 40 digits; blanks and colons do not count")]

    @property
    def thumbprint(self) -> str:
        """As the stores write it."""
        return re.sub(r"[\s:]", "", self.certificate).upper()

    def problems(self, places: Collection[str]) -> Iterator[Problem]:
        if not re.fullmatch(r"[0-9A-F]{40}", self.thumbprint):
            yield ("certificate",), "is no thumbprint: 40 digits from 0 to 9 and A to F"


class CertificateDelete(_Certificate, kw_only=True, frozen=True):
    """Take a certificate out of the stores of the machine and of each account."""


class CertificateVerify(_Certificate, kw_only=True, frozen=True):
    """A certificate that must be gone."""


def common_names(blob: bytes) -> list[str]:
    """The common names in a store's value: of who has signed it first, of whom it is for last; empty if it cannot be read."""
    at = 0
    while at + 12 <= len(blob):
        kind, _, size = unpack_from("<III", blob, at)
        at += 12
        if kind == THE_CERTIFICATE:
            found, names = blob[at : at + size], []
            for piece in found.split(COMMON_NAME)[1:]:
                if len(piece) > 2 and piece[1] < 128:
                    names.append(piece[2 : 2 + piece[1]].decode("utf-16-be" if piece[0] == 0x1E else "utf-8", "replace"))
            return names
        at += size
    return []


def _stage(model: _Certificate, stage: Stage) -> None:
    stage.key(rf"HKLM\{STORES}\Root\Certificates\{model.thumbprint}", {"Sample": "x"})


def _find(model: _Certificate, registry: Registry, here: Here) -> Iterator[Found]:
    for root in ("HKLM", "HKCU"):
        for store in NAMED:
            for key, account in meant_keys(here, rf"{root}\{STORES}\{store}\Certificates\{model.thumbprint}", 64, model.accounts):
                if registry.exists(key):
                    blob = registry.value(key, "Blob")
                    names = common_names(blob.raw) if blob is not None else []
                    shows = (f"of {names[-1]}, by {names[0]}" if names else "it cannot be read", f"in the store {store}")
                    yield Found(f"{model.thumbprint[:8]}... in {store}", account, keys=(key,), shows=shows)


CERTIFICATE = Sort("certificate", ("certificate", "certificates"), CertificateDelete, CertificateVerify, _find, _stage)


KINDS = (RegisteredKind(CERTIFICATE),)
