"""Links of boards."""

from __future__ import annotations

LINKS = {"serial": "fenko.integrations.board.transport:BoardWay", "tcp": "fenko.integrations.board.transport:BoardWay"}
