"""The step model of a condition on something that can be looked for."""

from typing import Annotated, Literal, cast

import msgspec
from msgspec import Meta

from kleff.procedure.model import Step

Must = Annotated[Literal["there", "absent"], Meta(description="what it must be")]
Waivable = Annotated[bool, Meta(description="--waive NAME goes on without it")]


def condition_of(evidence: type[Step], told: str) -> type[Step]:
    """The evidence model of a kind, told what it must be.

    Args:
        told: what it is a condition on, e.g. "A package that must, or must not, be there."
    """
    made = msgspec.defstruct(
        evidence.__name__.replace("Evidence", "Before"),
        [("must_be", Must), ("waivable", Waivable, False)],
        bases=(evidence,),
        namespace={
            "__doc__": told,
            "may_be_waived": property(lambda self: self.waivable),
            "expected": property(lambda self: self.must_be),
        },
        kw_only=True,
        frozen=True,
    )
    return cast(type[Step], made)
