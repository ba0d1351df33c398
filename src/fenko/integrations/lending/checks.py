"""Checks of surfaces that come by a broker."""

from __future__ import annotations

from fenko.core.links import kind_of
from fenko.core.review import DeskReview
from fenko.integrations.lending.protocol import lent_at


def check(case: DeskReview) -> None:
    """Report those whose broker the desk lacks."""
    brokers = case.tables.get("mqtt")
    known = brokers if isinstance(brokers, dict) else {}
    for surface, links in case.links.items():
        for number, link in enumerate(links):
            kind, rest = kind_of(link)
            if kind.word != "mqtt":
                continue
            _, broker = lent_at(rest, known)
            if broker not in known:
                wanted = f"[mqtt.{broker or 'NAME'}]"
                case.note(
                    "brokers that are not there", ("surface", surface, "links", number), f"this desk has no {wanted}, so `{surface}` cannot come",
                    "warning", f'{wanted} with `url = "mqtts://…"`', key=False,
                )  # fmt: skip
