"""A stand-in printer in a process of its own, as the built program runs it."""

import os
import re
import subprocess
import sys
import time

ENV = {"PYTHONUNBUFFERED": "1"}


class StandIn:
    """`omphalon printer stand-in` with these options; what it shows on its front."""

    def __init__(self, folder, *options):
        self.shows = folder / "panel.txt"
        with open(self.shows, "wb") as out:
            self.process = subprocess.Popen(
                [sys.executable, "-m", "omphalon", "printer", "stand-in", *map(str, options)],
                stdout=out,
                stderr=subprocess.STDOUT,
                cwd=folder,
                env={**os.environ, **ENV},
            )
        self.port = self.until(r"listening on (\S+)")[1]

    @property
    def panel(self):
        return self.shows.read_text("utf-8")

    def until(self, pattern, seconds=20.0):
        """The first match on its front, waited for."""
        end = time.monotonic() + seconds
        while time.monotonic() < end:
            found = re.search(pattern, self.panel)
            if found:
                return found
            time.sleep(0.02)
        raise AssertionError(f"no {pattern} in {self.panel}")

    def hot(self):
        """Heaters that are on, by what it shows."""
        last = dict(re.findall(r" s  (hotend 1|hotend|bed) (off|[\d.]+)$", self.panel, re.M))
        return {name for name, target in last.items() if target != "off"}

    def close(self):
        self.process.terminate()
        self.process.wait()

    def __enter__(self):
        return self

    def __exit__(self, *_):
        self.close()


def started(*words, folder, env=None):
    """The program in a process of its own, left running."""
    return subprocess.Popen(
        [sys.executable, "-m", "omphalon", *map(str, words)],
        cwd=folder,
        env={**os.environ, **ENV, **(env or {})},
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        text=True,
    )
