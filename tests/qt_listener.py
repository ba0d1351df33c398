"""A window in which lines can be typed: appends each to a file, and says which keys are down on it in another.

Run with Debian's Python, which has Qt from python3-pyqt5: APP TITLE FILE. A line `TITLE` on its input is its new title."""

import os
import sys

from PyQt5.QtCore import QEvent, QObject, QSocketNotifier
from PyQt5.QtWidgets import QApplication, QLineEdit

APP, TITLE, FILE = sys.argv[1:4]
application = QApplication([APP])
application.setApplicationName(APP)
application.setDesktopFileName(APP)


class Keys(QObject):
    """Notes which keys are down, by their key codes; a window that is left knows of none."""

    def __init__(self) -> None:
        super().__init__()
        self.down: set[int] = set()
        self.clicks = 0

    def eventFilter(self, about: QObject, event: QEvent) -> bool:
        kind = event.type()
        if kind in (QEvent.KeyPress, QEvent.KeyRelease) and about is line and not event.isAutoRepeat():
            (self.down.add if kind == QEvent.KeyPress else self.down.discard)(event.nativeScanCode())
        elif kind == QEvent.ShortcutOverride:
            return False
        elif kind == QEvent.FocusOut and about is line:
            self.down.clear()
        elif kind == QEvent.MouseButtonPress and about is line:
            self.clicks += 1
        else:
            return False
        with open(f"{FILE}.now", "w") as file:
            file.write(f"{sorted(self.down)}")
        os.replace(f"{FILE}.now", f"{FILE}.down")
        return False


line = QLineEdit()
line.setWindowTitle(TITLE)
keys = Keys()
application.installEventFilter(keys)


def entered() -> None:
    with open(FILE, "a", encoding="utf-8") as file:
        file.write(line.text() + "\n")
    line.clear()


def titled() -> None:
    said = os.read(0, 4096).decode()
    if not said:
        wakes.setEnabled(False)
    elif said.strip():
        line.setWindowTitle(said.strip().splitlines()[-1])


line.returnPressed.connect(entered)
wakes = QSocketNotifier(0, QSocketNotifier.Read)
wakes.activated.connect(titled)
line.resize(500, 80)
line.show()
application.exec_()
