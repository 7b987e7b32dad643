"""The form in which a plan is shown."""

from __future__ import annotations

from collections.abc import Sequence

from kleff.engine.job import Preview
from kleff.report.lines import Page


def plan_page(made: Preview, full: bool, labels: Sequence[str] = (), lines: Sequence[int] = (), states: Sequence[str] = ()) -> Page:
    """The form of a plan that is asked for.

    Raises:
        UsageError: there is no such label, step or state.
    """
    from kleff.cli.terminal.show import columns
    from kleff.report.full_plan import chooser, full_plan
    from kleff.report.short_plan import short_plan

    if labels or lines or states:
        return full_plan(made.here, made.plan, made.choices, chooser(made.plan, labels, lines, states))
    if full:
        return full_plan(made.here, made.plan, made.choices)
    return short_plan(made.here, made.plan, made.choices, columns())
