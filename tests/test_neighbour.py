"""A neighbour on the same computer: planted links and pipes, forged notes, a squatted meeting place,
floods, other names and folders for the same port. None of it is believed, followed, or waited for.
"""

import contextlib
import json
import os
import signal
import socket
import stat
import sys
import threading
import time
from pathlib import Path

import pytest

from omphalon.printer.notes import Holder, known, name_of, note, place
from omphalon.printer.port import _meeting_place, address_of, held_port, met_keeper
from rig import StandIn, started

LINUX = pytest.mark.skipif(sys.platform != "linux", reason="sockets without a file are Linux's own")


@pytest.fixture
def state(tmp_path, monkeypatch):
    folder = tmp_path / "state"
    monkeypatch.setenv("OMPHALON_STATE", str(folder))
    return folder


def mode(path):
    return stat.S_IMODE(path.stat().st_mode)


def test_notes_lie_in_a_folder_of_ones_own(state):
    state.mkdir(mode=0o777)
    state.chmod(0o777)
    assert place() == state and mode(state) == 0o700


def test_a_folder_that_is_a_link_is_not_followed(state, run, tmp_path):
    private = tmp_path / "private"
    private.mkdir(mode=0o750)
    state.symlink_to(private)
    done = run("printer", "list", env={"OMPHALON_STATE": str(state)})
    assert done.returncode == 1 and "no folder of your own" in done.stderr
    assert mode(private) == 0o750 and not list(private.iterdir())


@pytest.mark.skipif(os.geteuid() != 0, reason="only root gives files away")
def test_what_another_user_left_there_is_not_believed(state, run):
    state.mkdir()
    path = state / f"{name_of('/dev/null')}.json"
    path.write_text(json.dumps({"port": "/dev/null", "name": "forged"}))
    os.chown(path, 65534, 65534)
    assert known("/dev/null").name == ""
    note("/dev/null", name="ours")
    assert known("/dev/null").name == "ours"
    os.chown(state, 65534, 65534)
    assert run("printer", "list", env={"OMPHALON_STATE": str(state)}).returncode == 1


@LINUX
@pytest.mark.parametrize("left_on", [{"kiln": 900.0}, {"hotend x": 1.0}, {"bed": "hot"}, ["bed"]])
def test_a_note_that_is_none_of_ours_keeps_no_printer_hot(left_on, state, run, tmp_path):
    with StandIn(tmp_path, "--tcp", 0, "--pace", 200) as fulmar:
        path = state / f"{name_of(fulmar.port)}.json"
        state.mkdir(mode=0o700)
        path.write_text(json.dumps({"port": fulmar.port, "left_on": left_on}))
        where = ("--port", fulmar.port)
        done = run("printer", "cool", *where, env={"OMPHALON_STATE": str(state)})
        assert done.returncode == 0 and fulmar.hot() == set(), done.stderr


@pytest.mark.parametrize("end", ["json", "who"])
def test_a_note_is_no_link_and_no_pipe(end, state, run, tmp_path):
    state.mkdir(mode=0o700)
    victim = tmp_path / "victim"
    victim.write_text("precious")
    path = state / f"{name_of('/dev/null')}.{end}"
    for plant in (lambda: path.symlink_to(victim), lambda: os.mkfifo(path)):
        plant()
        done = run("printer", "cool", "--port", "/dev/null", env={"OMPHALON_STATE": str(state)})
        assert done.returncode == 1 and "/dev/null" in done.stderr
        assert known("/dev/null").name == "" and victim.read_text() == "precious"
        if end == "json":
            note("/dev/null", name="ours")
            assert victim.read_text() == "precious" and known("/dev/null").name == "ours"
        path.unlink(missing_ok=True)


def test_a_port_is_held_once_whatever_its_name_and_whatever_the_folders(tmp_path, monkeypatch):
    ours, theirs = os.openpty()
    name, link = os.ttyname(theirs), tmp_path / "by-id"
    link.symlink_to(name)
    with held_port(name):
        monkeypatch.setenv("TMPDIR", str(tmp_path))
        for other in (name, str(link)):
            with pytest.raises(Exception, match="another omphalon"), held_port(other):
                pass
    with held_port(str(link)):
        pass
    os.close(ours)
    os.close(theirs)


def test_an_address_of_this_computer_is_this_computer():
    with contextlib.closing(socket.socket(socket.AF_INET, socket.SOCK_DGRAM)) as probe:
        with contextlib.suppress(OSError):
            probe.connect(("192.0.2.1", 9))  # sends nothing: which address would be used?
        own = probe.getsockname()[0]
    assert address_of(f"socket://{own}:5557") == address_of("socket://127.0.0.1:5557")
    assert address_of("socket://192.0.2.1:5557") != address_of("socket://127.0.0.1:5557")


def squatting(port, answers):
    """Somebody else at the place where the keeper of a port is met."""
    family, address = _meeting_place(port)
    listener = socket.socket(family)
    listener.bind(address)
    listener.listen(8)

    def serve():
        with contextlib.suppress(OSError):
            for answer in answers:
                peer, _ = listener.accept()
                peer.recv(4096)
                peer.sendall(json.dumps(answer).encode() + b"\n")
                peer.close()
        listener.close()

    threading.Thread(target=serve, daemon=True).start()
    return listener


@LINUX
@pytest.mark.slow
def test_a_forged_off_is_not_believed(state, run, tmp_path):
    """The printer is hot; who answers at the meeting place says that it is off, and proves nothing."""
    env = {"OMPHALON_STATE": str(state)}
    with StandIn(tmp_path, "--tcp", 0, "--pace", 200) as fulmar:
        where = ("--port", fulmar.port)
        assert (
            run("printer", "send", "--line", "M109 S200", "--yes", *where, env=env).returncode == 0
        )
        assert fulmar.hot() == {"hotend"}
        (state / f"{name_of(fulmar.port)}.who").write_text(
            json.dumps(vars(Holder(process=1, command="forged", secret="known")))
        )
        off = {"off": {"shown": True, "halted": False, "words": "the heaters are off"}}
        squatting(fulmar.port, [{**off, "proof": "x"}])
        done = run("printer", "cool", *where, env=env)
        assert done.returncode == 0 and fulmar.hot() == set()


@LINUX
@pytest.mark.slow
def test_a_keeper_that_hangs_is_ended_and_the_port_opened(state, run, tmp_path):
    env = {"OMPHALON_STATE": str(state)}
    words = ("printer", "capture", "--run", "hold", "--target", "235", "--yes", "--warm", "--quiet")
    with StandIn(tmp_path, "--tcp", 0, "--pace", 20) as fulmar:
        where = ("--port", fulmar.port)
        one = started(*words, "--out", "log.csv", *where, folder=tmp_path, env=env)
        fulmar.until("hotend 235")
        who = json.loads((state / f"{name_of(fulmar.port)}.who").read_text())
        os.kill(one.pid, signal.SIGSTOP)  # else it would end its keeper by itself
        os.kill(who["process"], signal.SIGSTOP)
        done = run("printer", "cool", *where, env=env)
        assert done.returncode == 0 and fulmar.hot() == set(), done.stderr
        one.kill()
        one.wait()


@pytest.mark.slow
@pytest.mark.parametrize("what", ["bytes without an end", "many who say nothing", "lines"])
def test_a_flood_holds_nothing_up(what, state, tmp_path):
    """While somebody floods the keeper the log grows, and its owner's death is seen in time."""
    words = ("printer", "capture", "--run", "hold", "--target", "235", "--yes", "--warm", "--quiet")
    over = threading.Event()

    def flood(port):
        held = []
        while not over.is_set():
            peer = met_keeper(port)
            if peer is None:
                time.sleep(0.01)
                continue
            if what == "many who say nothing":
                held.append(peer)
                held = held[-50:]
                continue
            with contextlib.suppress(OSError):
                while not over.is_set():
                    peer.sendall(b"x" * 65536 if "bytes" in what else b'{"do": "beat"}\n' * 2000)
            peer.close()

    with StandIn(tmp_path, "--tcp", 0, "--pace", 20) as fulmar:
        one = started(
            *words, "--out", "log.csv", "--port", fulmar.port, folder=tmp_path,
            env={"OMPHALON_STATE": str(state)},
        )  # fmt: skip
        fulmar.until("hotend 235")
        threads = [threading.Thread(target=flood, args=(fulmar.port,)) for _ in range(3)]
        for thread in threads:
            thread.start()
        log = Path(tmp_path / "log.csv")
        rows = len(log.read_text().splitlines())
        while len(log.read_text().splitlines()) < rows + 40:
            assert one.poll() is None, one.communicate()
            time.sleep(0.05)
        one.kill()
        one.wait()
        try:
            fulmar.until("hotend off", seconds=12)
        finally:
            over.set()
            for thread in threads:
                thread.join()
