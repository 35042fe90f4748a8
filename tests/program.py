"""The program in fresh processes, fast: a small process that has imported everything once and forks for each command.

It has a single thread, so that a fork is safe (and Python 3.12 and later do not warn), and it talks JSON over its pipes.
"""

import gc
import importlib
import json
import os
import pkgutil
import subprocess
import sys
from pathlib import Path


def serve():
    """Answer requests {words, folder, out, err, env, drop} from standard input with an exit code each."""
    import io

    from matplotlib.backends.backend_agg import FigureCanvasAgg
    from matplotlib.figure import Figure

    import omphalon
    from omphalon.lines.dialect import SHIPPED, load_dialect

    for module in pkgutil.walk_packages(omphalon.__path__, "omphalon."):
        if not module.name.endswith("__main__"):
            importlib.import_module(module.name)

    for name in SHIPPED:
        load_dialect(name)
    figure = Figure()  # fonts are looked for once, not in each child
    FigureCanvasAgg(figure)
    figure.add_subplot().set_title("±")
    for kind in ("svg", "png"):
        figure.savefig(io.BytesIO(), format=kind)

    gc.freeze()  # pages that are not touched are not copied
    for line in sys.stdin:
        request = json.loads(line)
        child = os.fork()
        if child == 0:
            os._exit(_answer(**request))
        code = os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])
        sys.stdout.write(f"{code}\n")
        sys.stdout.flush()


def _answer(words, folder, out, err, env, drop):
    """In the child: the program with these words in this folder; its exit code."""
    os.environ.update(env)
    os.chdir(folder)
    if drop:
        _run(["heater", "fit", drop], os.devnull, os.devnull)  # imports all that is needed
    return _run(words, out, err, nobody=bool(drop))


def _run(words, out, err, nobody=False):
    from omphalon.cli import main

    for path, number in ((os.devnull, 0), (out, 1), (err, 2)):
        opened = os.open(path, os.O_RDWR | os.O_CREAT | os.O_TRUNC * (number > 0), 0o644)
        os.dup2(opened, number)
        os.close(opened)
    sys.stdin = os.fdopen(0, closefd=False)
    coding = os.environ.get("PYTHONIOENCODING", "utf-8")
    sys.stdout = os.fdopen(1, "w", encoding=coding, closefd=False)
    sys.stderr = os.fdopen(2, "w", encoding=coding, closefd=False)
    if nobody and os.geteuid() == 0:
        os.setegid(65534)
        os.seteuid(65534)
    sys.argv = ["omphalon", *words]
    code = 70
    try:
        main()
    except SystemExit as leave:
        code = leave.code or 0
    sys.stdout.flush()
    sys.stderr.flush()
    return code


class Program:
    """The server's other end."""

    def __init__(self):
        self.process = subprocess.Popen(
            [sys.executable, __file__],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            text=True,
            env={**os.environ, "OPENBLAS_NUM_THREADS": "1", "OMP_NUM_THREADS": "1"},
        )

    def run(self, words, folder, aside, env=None, drop=""):
        words = [str(w) for w in words]
        out, err = Path(aside) / "out", Path(aside) / "err"
        request = {"words": words, "folder": str(folder), "out": str(out), "err": str(err)}
        self.process.stdin.write(json.dumps({**request, "env": env or {}, "drop": drop}) + "\n")
        self.process.stdin.flush()
        code = int(self.process.stdout.readline())
        coding = (env or {}).get("PYTHONIOENCODING", "utf-8")
        texts = (path.read_bytes().decode(coding) for path in (out, err))
        return subprocess.CompletedProcess(words, code, *texts)

    def close(self):
        self.process.stdin.close()
        self.process.wait()
        self.process.stdout.close()


if __name__ == "__main__":
    serve()
