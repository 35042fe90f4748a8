"""Run the commands of the pages that show them, and put what comes out under each.

    python tools/run_pages.py [PAGE...]

A page's blocks ```console hold commands (`$ …`) and what they answer; those under a line
`<!-- at a real printer -->` are left as they are. The commands of a page run one after the other in
one empty folder that holds the samples. `tests/test_handbook.py` runs the pages in the same way.
"""

from __future__ import annotations

import contextlib
import os
import pathlib
import re
import shutil
import socket
import subprocess
import sys
import tempfile
from collections.abc import Iterator

ROOT = pathlib.Path(__file__).parents[1]
DOCS = ROOT / "docs"
PAGES = (DOCS / "first-evening.md", *sorted((DOCS / "how-to").glob("*.md")))
COMMAND = re.compile(r"^\$ (.*(?:(?<=\\)\n.*)*(?:\n>(?: .*)?)*)", re.M)  # of one line, or several
BLOCK = re.compile(r"(?<!<!-- at a real printer -->\n)^```console\n(.*?)^```$", re.M | re.S)
PORT, MARK = "5555", "\x1e"  # as the pages have it; between two commands' output
WAIT = 'for n in {1..200}; do grep -q "listening on" panel.txt && break; sleep 0.1; done'
LONGEST_S = 300


def commands(page: str) -> list[str]:
    """The commands of a page in their order, those of several lines whole."""
    found = []
    for block in BLOCK.findall(page):
        found += [re.sub(r"\n> ?", "\n", command) for command in COMMAND.findall(block)]
    return found


def outputs(page: str) -> list[tuple[str, int]]:
    """What each command of a page says, and its exit code."""
    words = []
    for command in commands(page):
        wait = f"{WAIT}\n" if command.endswith("&") else ""
        words.append(f"{command}\n{wait}printf '{MARK}%d{MARK}' $?\n")
    port = _free_port()
    with _folder() as folder:
        script = "trap 'kill $(jobs -p) 2>/dev/null' EXIT\n" + "".join(words)
        done = subprocess.run(
            ["bash", "-c", script.replace(PORT, port)],
            cwd=folder,
            env=_environment(folder),
            text=True,
            stdin=subprocess.DEVNULL,
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            timeout=LONGEST_S,
        )
        said = done.stdout.replace(port, PORT).replace(f"{folder}/", "")
    parts = said.split(MARK)
    pairs = zip(parts[0::2], parts[1::2], strict=False)
    return [
        ("\n".join(x.rstrip() for x in text.strip("\n").split("\n")), int(code))
        for text, code in pairs
    ]


def filled(page: str) -> str:
    """The page with what its commands say now."""
    said = iter(outputs(page))

    def block(match: re.Match[str]) -> str:
        out = []
        for command in COMMAND.findall(match[1]):
            text, code = next(said)
            if code not in (0, 3, 4):
                raise SystemExit(f"exit {code}: {command}\n{text}")
            out.append(f"$ {command}\n{text}\n" if text else f"$ {command}\n")
        return "```console\n" + "".join(out) + "```"

    return BLOCK.sub(block, page)


@contextlib.contextmanager
def _folder() -> Iterator[pathlib.Path]:
    """A folder with the samples, and a place for notes about ports."""
    with tempfile.TemporaryDirectory() as place:
        folder = pathlib.Path(place).resolve() / "evening"
        shutil.copytree(ROOT / "src" / "omphalon" / "samples", folder)
        yield folder


def _environment(folder: pathlib.Path) -> dict[str, str]:
    programs = f"{pathlib.Path(sys.executable).parent}{os.pathsep}{os.environ['PATH']}"
    own = {"PATH": programs, "COLUMNS": "88", "OMPHALON_STATE": f"{folder.parent}/state"}
    kept = {k: v for k, v in os.environ.items() if not k.startswith("OMPHALON")}
    return {**kept, **own, "PYTHONUNBUFFERED": "1"}


def _free_port() -> str:
    with socket.create_server(("127.0.0.1", 0)) as listener:
        return str(listener.getsockname()[1])


if __name__ == "__main__":
    for path in [pathlib.Path(name) for name in sys.argv[1:]] or PAGES:
        path.write_text(filled(path.read_text("utf-8")), "utf-8")
        print(path.name)
