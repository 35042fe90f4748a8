"""Put the real output of a ten-line session into README.md: python tools/make_readme.py"""

import pathlib
import re
import subprocess
import sys

ROOT = pathlib.Path(__file__).parents[1]
COMMAND = "omphalon heater fit hotend-oscillation.csv"


def session() -> str:
    words = COMMAND.split()[1:]
    done = subprocess.run(
        [sys.executable, "-m", "omphalon", *words],
        cwd=ROOT / "src" / "omphalon" / "samples",
        text=True,
        capture_output=True,
        check=True,
    )
    return (
        "```\n$ omphalon demo omphalon-demo && cd omphalon-demo\n$ "
        f"{COMMAND}\n\n{done.stdout.rstrip()}\n```"
    )


if __name__ == "__main__":
    page = ROOT / "README.md"
    text = re.sub(
        r"## A session\n.*?(?=\n!\[)",
        lambda _: f"## A session\n{session()}\n",
        page.read_text(),
        flags=re.S,
    )
    page.write_text(text)
