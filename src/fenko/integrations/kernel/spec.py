"""Links of kernel devices. Fenko reads such devices itself; this transport only lights and shakes them."""

from __future__ import annotations

from fenko.core.links import LinkKind

LINKS = (LinkKind("", "fenko.integrations.kernel.transport:KernelWay"),)
