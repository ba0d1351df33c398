"""A window that opens a dialog of its own when a file appears, and closes it when that is gone.

Run with Debian's Python, which has Qt from python3-pyqt5."""

import os
import sys

from PyQt5.QtCore import QTimer
from PyQt5.QtWidgets import QApplication, QDialog, QMainWindow

application = QApplication(["snipwell"])
application.setDesktopFileName("snipwell")
window = QMainWindow()
window.setWindowTitle("Reel 2")
window.resize(300, 200)
window.show()
dialog = QDialog(window)
dialog.setWindowTitle("Export reel")
dialog.resize(200, 100)
timer = QTimer()
timer.timeout.connect(lambda: dialog.setVisible(os.path.exists(sys.argv[1])))
timer.start(50)
application.exec_()
