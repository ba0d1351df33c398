"""A window with an action that refuses the keyboard's own repeating: writes how often it was triggered to a file.

Run with Debian's Python, which has Qt from python3-pyqt5."""

import sys

from PyQt5.QtGui import QKeySequence
from PyQt5.QtWidgets import QAction, QApplication, QMainWindow

application = QApplication(sys.argv)
window = QMainWindow()
window.setWindowTitle("reel actions")
action = QAction("Cut", window)
action.setShortcut(QKeySequence("F7"))
action.setAutoRepeat(False)
times = 0


def triggered() -> None:
    global times
    times += 1
    with open(sys.argv[1], "w") as file:
        file.write(str(times))


action.triggered.connect(triggered)
window.addAction(action)
window.resize(300, 200)
window.show()
application.exec_()
