"""The program as it is started, in a real window on a virtual screen, driven by a real pointer and keys."""

import os
import shutil
import signal
import subprocess
import sys
import time

import numpy as np
import pytest
from PySide6.QtGui import QImage

SCREEN = "1280x800x24"

TOOLS = shutil.which("Xvfb") and shutil.which("xdotool")
pytestmark = [pytest.mark.window,
              pytest.mark.skipif(not TOOLS, reason="needs Xvfb and xdotool")]


def until(find, seconds=90.0):
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        found = find()
        if found:
            return found
        time.sleep(0.1)
    raise AssertionError("waited in vain")


@pytest.fixture
def screen(own_folders):
    """The environment of a program on a fresh virtual screen."""
    reading, writing = os.pipe()
    server = subprocess.Popen(["Xvfb", "-displayfd", str(writing), "-screen", "0", SCREEN, "-nolisten", "tcp"],
                              pass_fds=[writing], stderr=subprocess.DEVNULL)
    os.close(writing)
    with os.fdopen(reading) as pipe:
        number = pipe.readline().strip()
    yield {**os.environ, "DISPLAY": f":{number}", "QT_QPA_PLATFORM": "xcb", "HOME": str(own_folders)}
    server.terminate()
    server.wait()


@pytest.fixture
def program(screen):
    started = subprocess.Popen([sys.executable, "-m", "rubberquince", "--demo"], env=screen, stderr=subprocess.PIPE)
    yield started
    if started.poll() is None:
        started.kill()
    started.communicate()


def xdotool(screen, *words):
    return subprocess.run(["xdotool", *map(str, words)], env=screen, capture_output=True, text=True).stdout.strip()


def picture(screen, window, folder):
    """The view's pixels (h, w, 3) as they stand on the screen."""
    code = ("import sys; from PySide6.QtGui import QGuiApplication; a = QGuiApplication([]);"
            "a.primaryScreen().grabWindow(0).save(sys.argv[1])")
    path = folder / "screen.png"
    subprocess.run([sys.executable, "-c", code, str(path)], env=screen, check=True)
    image = QImage(str(path)).convertToFormat(QImage.Format.Format_RGB888)
    rows = np.frombuffer(image.constBits(), np.uint8).reshape(image.height(), image.bytesPerLine())
    return rows[:, : image.width() * 3].reshape(image.height(), image.width(), 3)[120:640, 330:1030].astype(int)


def test_the_demo_falls_in_a_real_window(screen, program, tmp_path):
    window = until(lambda: xdotool(screen, "search", "--onlyvisible", "--pid", program.pid).split("\n")[-1])
    amber = until(lambda: (p := amber_rows(screen, window, tmp_path)) is not None and p)
    xdotool(screen, "windowfocus", window)
    xdotool(screen, "mousemove", 700, 200)
    xdotool(screen, "key", "space")
    lower = until(lambda: (p := amber_rows(screen, window, tmp_path)) is not None and p > amber + 25 and p, 180)
    assert lower > amber + 25                       # the pudding has come down
    xdotool(screen, "key", "space")
    program.send_signal(signal.SIGINT)
    assert program.wait(20) == 0
    errors = program.stderr.read().decode()
    assert "Traceback" not in errors


def amber_rows(screen, window, folder):
    """The mean row of what is amber in the view; None when there is hardly any."""
    pixels = picture(screen, window, folder)
    amber = (pixels[:, :, 0] > 200) & (pixels[:, :, 1] > 90) & (pixels[:, :, 1] < 170) & (pixels[:, :, 2] < 90)
    return float(np.nonzero(amber)[0].mean()) if amber.sum() > 3000 else None
