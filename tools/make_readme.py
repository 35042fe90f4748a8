"""Put the real output of a ten-line session into README.md and docs/index.md:
python tools/make_readme.py
"""

import pathlib
import re
import subprocess
import sys

ROOT = pathlib.Path(__file__).parents[1]
COMMAND = (
    "omphalon extruder fit --steps 412 --asked 80 --mark 110 --left 34.6 --left 34.9 --left 34.4"
)


def session() -> str:
    """The command and what it prints."""
    words = COMMAND.split()[1:]
    done = subprocess.run(
        [sys.executable, "-m", "omphalon", *words], text=True, capture_output=True, check=True
    )
    return f"```\n$ {COMMAND}\n\n{done.stdout.rstrip()}\n```"


if __name__ == "__main__":
    shown = f"<!-- session -->\n{session()}\n<!-- end -->"
    for page in (ROOT / "README.md", ROOT / "docs" / "index.md"):
        text = page.read_text()
        page.write_text(
            re.sub(r"<!-- session -->.*?<!-- end -->", lambda _: shown, text, flags=re.S)
        )
