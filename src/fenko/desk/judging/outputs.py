"""What outputs have to say of the phrases that use them."""

from __future__ import annotations

from fenko.core.registration import Surrounding
from fenko.core.verbs import OUTPUT_OF
from fenko.desk.judging.case import Case


def said(case: Case) -> None:
    """Every finding of every output."""
    around = Surrounding(case.desk.folder, case.desk.sources.data)
    for path, step in case.steps():
        output = OUTPUT_OF.get(type(step))
        for finding in output.judge(step, around) if output is not None else ():
            case.note(finding.sort, path, finding.message, finding.severity, finding.expected, key=False)
