"""Put a live session's real output into docs/live-session.md: python tools/make_session.py"""

import pathlib
import re
import subprocess
import sys
import tempfile

ROOT = pathlib.Path(__file__).parents[1]
HEAD = """# A session over the wire

What `omphalon demo --live` shows: a stand-in printer in a process of its own, and the commands at
it. Written by `tools/make_session.py`; the dates are of that run.

"""


def main() -> None:
    with tempfile.TemporaryDirectory() as folder:
        done = subprocess.run(
            [sys.executable, "-m", "omphalon", "demo", "--live", "omphalon-live"],
            cwd=folder,
            text=True,
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            check=True,
        )
    text = re.sub(r"127\.0\.0\.1:\d+", "127.0.0.1:5555", done.stdout)
    stops = re.split(r"\n\d+ of \d+\n", text)
    pages = [HEAD, stops[0].strip() + "\n"]
    pages += [f"\n```\n{stop.strip()}\n```\n" for stop in stops[1:]]
    (ROOT / "docs" / "live-session.md").write_text("".join(pages))


if __name__ == "__main__":
    main()
