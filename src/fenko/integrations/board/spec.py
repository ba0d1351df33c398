"""Links of boards."""

from __future__ import annotations

from fenko.core.links import LinkKind

_WAY = "fenko.integrations.board.transport:BoardWay"
LINKS = (
    LinkKind(
        "serial",
        _WAY,
        form="serial DEVICE",
        pattern=r"serial /\S+( \d{3,7})?",
        surface_kind="board",
        title=lambda rest: rest.partition(" ")[0].rpartition("/")[2],
        find="fenko.integrations.board.found:lines",
        ready="fenko.integrations.board.found:ready",
        place=20,
    ),
    LinkKind(
        "tcp",
        _WAY,
        form="tcp HOST:PORT",
        pattern=r"tcp \S+:\d{1,5}",
        surface_kind="board",
        title=lambda rest: rest,
        lets_in=lambda rest, tables: f"lets {rest}",
        ready="fenko.integrations.board.found:ready_tcp",
        place=30,
    ),
)
