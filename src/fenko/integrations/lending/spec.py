"""The link of a surface of another computer."""

from __future__ import annotations

LINKS = {"mqtt": "fenko.integrations.lending.transport:LentWay"}
