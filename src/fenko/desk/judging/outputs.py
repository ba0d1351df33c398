"""What outputs have to say of the phrases that use them."""

from __future__ import annotations

from fenko.core.registration import Surrounding
from fenko.core.verbs import OUTPUT_OF
from fenko.desk.judging.case import Case
from fenko.integrations.telling import is_told, tells_of


def told(case: Case) -> None:
    """Patterns of what others are told that nothing fits."""
    tables = case.desk.sources.data
    values = [f"value {name}" for out, name in case.plan.values if out == "value"]
    for table in ("mqtt", "osc"):
        for name, patterns in tells_of(tables, table).items():
            for number, pattern in enumerate(patterns):
                surface, point, _ = pattern.partition(".")
                fits = (
                    any(is_told((surface,), one) for one in case.plan.surfaces)
                    if point
                    else any(is_told((pattern,), one) for one in values)
                )
                if not fits:
                    case.note(
                        "what nobody is told", (table, name, "tells", number), f"`{pattern}` fits no control and no value of this desk", "warning",
                        "SURFACE.CONTROL or `value NAME`, with * and ?", key=False,
                    )  # fmt: skip


def said(case: Case) -> None:
    """Every finding of every output."""
    around = Surrounding(case.desk.folder, case.desk.sources.data)
    for path, step in case.steps():
        output = OUTPUT_OF.get(type(step))
        for finding in output.judge(step, around) if output is not None else ():
            case.note(finding.sort, path, finding.message, finding.severity, finding.expected, key=False)
