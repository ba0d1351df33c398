"""The legend's window that a held control shows, a child process of the workers."""

from __future__ import annotations

from fenko.integrations.legend.worker import ShowLegend
from fenko.showing.legend_window import LegendWindow
from fenko.system.parent_process import ParentProcess, serve
from fenko.system.wire import Failed


def work(parent: ParentProcess) -> None:
    """Show and hide the window until the parent ends."""
    LegendWindow(None, (), lambda text: parent.send(Failed(text)), parent).run()


if __name__ == "__main__":
    serve(work, ShowLegend)
