"""A worker that misbehaves as told: python fake_worker.py HABIT SOCKET FOLDER.

HABIT is what it does in a state of the link, joined by commas: "die-waking", "sleep-stopping", "lie-running", ...
A habit with a number, "die-running:2", is given up after so many processes of this folder.
"""

import pickle
import sys
import time
from multiprocessing.connection import Connection
from pathlib import Path

import numpy as np

from rubberquince.jobs import protocol as p
from rubberquince.jobs.ring import Ring, Signals


def main() -> None:
    habits = dict(habit.partition(":")[::2] for habit in sys.argv[1].split(","))
    connection, folder = Connection(int(sys.argv[2])), Path(sys.argv[3])
    starts = folder / "starts"
    starts.write_text(starts.read_text() + "x" if starts.exists() else "x")
    count = len(starts.read_text())

    def has(habit: str) -> bool:
        return habit in habits and (not habits[habit] or count <= int(habits[habit]))

    def misbehave(state: str) -> None:
        if has(f"die-{state}"):
            sys.exit(1)
        if has(f"sleep-{state}"):
            time.sleep(1e6)
        if has(f"lie-{state}"):
            for lie in (p.Awake(), p.Finished(10 ** 6, False), p.FrameDone(-3, 1, 2, 0, np.zeros(1), np.zeros(2)), 7):
                connection.send(lie)
        if has(f"babble-{state}"):
            connection.send_bytes(b"no pickle")

    misbehave("waking")
    connection.send(p.Awake())
    signals = Signals(folder / "signals", create=False)
    misbehave("idle")
    while True:
        command = connection.recv()
        with open(folder / "heard", "ab") as heard:
            pickle.dump(command, heard)
        if isinstance(command, p.Quit):
            return
        if isinstance(command, p.Run):
            work(connection, signals, folder, command, misbehave)


def work(connection, signals, folder, run, misbehave) -> None:
    ring = Ring(folder / f"ring{run.job}", 1, create=True)
    connection.send(p.Ready(run.job, 1, str(ring.path)))
    for frame in range(1, run.last + 1):
        if frame == 2:
            misbehave("running")
        slot = ring.write(np.full((1, 3), frame, np.float32), signals.stopped)
        if signals.stopped() or slot is None:
            misbehave("stopping")
            connection.send(p.Finished(run.job, True))
            return
        connection.send(p.FrameDone(run.job, frame, 2, slot, np.zeros((1, 6)), np.zeros(2)))
        time.sleep(0.01)
    connection.send(p.Finished(run.job, False))


main()
