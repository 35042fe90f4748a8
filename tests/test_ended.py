"""A command at the printer that is ended, stopped, or held up at its terminal, however that happens: the
heaters go off within seconds, by the stand-in's own front.
"""

import os
import pty
import select
import shlex
import signal
import subprocess
import sys
import termios
import threading
import time

import pytest

from rig import ENV, StandIn

pytestmark = pytest.mark.slow
HEAT = ("printer", "capture", "--run", "hold", "--target", "235", "--yes", "--warm")
OFF_S = 10.0  # all of it, the five seconds of silence among them
CTRL = {"Ctrl-C": b"\x03", "Ctrl-Z": b"\x1a", "Ctrl-\\": b"\x1c", "Ctrl-S": b"\x13"}


class Terminal:
    """A command in a real terminal of its own, of which somebody reads what it shows, or not."""

    def __init__(self, folder, *words, reads=True, shell=False):
        self.process_id, self.ours = pty.fork()
        if self.process_id == 0:
            os.chdir(folder)
            os.environ.update(ENV, OMPHALON_STATE=str(folder / "state"), TERM="xterm")
            command = [sys.executable, "-m", "omphalon", *map(str, words)]
            if shell:  # which alone can stop a job
                command = ["bash", "-mc", f"{shlex.join(command)}; sleep 12; fg; sleep 60"]
            os.execvp(command[0], command)
        termios.tcsetwinsize(self.ours, (30, 90))
        self.shown, self.reads = b"", reads
        threading.Thread(target=self._read, daemon=True).start()

    def _read(self):
        while True:
            if not self.reads:
                time.sleep(0.05)
                continue
            try:
                if select.select([self.ours], [], [], 0.1)[0]:
                    self.shown += os.read(self.ours, 65536)
            except (OSError, ValueError):
                return

    def type(self, keys):
        os.write(self.ours, keys)

    def ended(self, seconds=60.0):
        """Its exit code; -n where a signal ended it; None where it has not ended."""
        end = time.monotonic() + seconds
        while time.monotonic() < end:
            found, status = os.waitpid(self.process_id, os.WNOHANG)
            if found:
                return os.waitstatus_to_exitcode(status)
            time.sleep(0.05)
        return None

    def kill(self):
        for number in (signal.SIGCONT, signal.SIGKILL):
            try:
                os.kill(self.process_id, number)
            except ProcessLookupError:
                return


@pytest.fixture
def heating(tmp_path):
    """A stand-in at work for a command in a terminal: both, once the hotend is hot."""
    made = []

    def begin(**how):
        fulmar = StandIn(tmp_path, "--tcp", 0, "--pace", 20)
        made.append(fulmar)
        words = (*HEAT, "--out", "log.csv", "--port", fulmar.port)
        terminal = Terminal(tmp_path, *words, **how)
        made.append(terminal)
        fulmar.until(r"hotend 235")
        log = tmp_path / "log.csv"
        while not log.exists() or len(log.read_text().splitlines()) < 30:
            time.sleep(0.02)
        return fulmar, terminal

    yield begin
    for one in made:
        one.kill() if isinstance(one, Terminal) else one.close()


def off_in_time(fulmar):
    """The heater is off in time, and stays so."""
    fulmar.until(r"hotend off", seconds=OFF_S)
    assert fulmar.hot() == set()


def note(folder):
    """What the next command hears of the last one, once the keeper has ended."""
    env = {**os.environ, **ENV, "OMPHALON_STATE": str(folder / "state")}
    for _ in range(100):
        listed = [path.read_text() for path in (folder / "state").glob("*.json")]
        if any('"heating_since": null' in text for text in listed):
            return "".join(listed)
        time.sleep(0.1)
    raise AssertionError((env["OMPHALON_STATE"], listed))


@pytest.mark.parametrize(
    "name, code",
    [
        ("INT", 1),
        ("TERM", 1),
        ("HUP", 1),
        *[(name, -getattr(signal, f"SIG{name}")) for name in ("QUIT", "ABRT", "USR1", "KILL")],
    ],
)
def test_a_signal_ends_it_and_the_heaters_go_off(name, code, heating, tmp_path):
    fulmar, terminal = heating()
    os.kill(terminal.process_id, getattr(signal, f"SIG{name}"))
    off_in_time(fulmar)
    assert terminal.ended() == code
    told = note(tmp_path)
    assert ("died, was stopped or fell silent" in told) == (code < 0)


def test_thirty_signals_in_a_row_change_nothing(heating, tmp_path):
    fulmar, terminal = heating()
    for n in range(30):
        number = (signal.SIGINT, signal.SIGTERM, signal.SIGHUP)[n % 3]
        try:
            os.kill(terminal.process_id, number)
        except ProcessLookupError:
            break
        time.sleep(0.02)
    off_in_time(fulmar)
    assert terminal.ended() == 1
    note(tmp_path)


@pytest.mark.parametrize("key, code", [("Ctrl-C", 1), ("Ctrl-\\", -signal.SIGQUIT)])
def test_a_key_ends_it(key, code, heating, tmp_path):
    fulmar, terminal = heating()
    terminal.type(CTRL[key])
    off_in_time(fulmar)
    assert terminal.ended() == code
    note(tmp_path)


def test_a_command_that_is_stopped_leaves_no_heater_on(heating, tmp_path):
    fulmar, terminal = heating(shell=True)
    terminal.type(CTRL["Ctrl-Z"])
    off_in_time(fulmar)
    assert "fell silent" in note(tmp_path)
    while b"fell silent" not in terminal.shown:  # the shell has woken it up again
        time.sleep(0.05)


def test_a_terminal_that_is_closed_leaves_no_heater_on(heating, tmp_path):
    fulmar, terminal = heating()
    os.close(terminal.ours)
    off_in_time(fulmar)
    assert terminal.ended() == 1
    note(tmp_path)


@pytest.mark.parametrize("how", ["Ctrl-S", "nobody reads"])
def test_a_terminal_that_takes_nothing_holds_up_nothing(how, heating, tmp_path):
    fulmar, terminal = heating()
    if how == "Ctrl-S":
        terminal.type(CTRL[how])
    else:
        terminal.reads = False
    log = tmp_path / "log.csv"
    rows = len(log.read_text().splitlines())
    while len(log.read_text().splitlines()) < rows + 100:  # the log goes on, and so does the guard
        time.sleep(0.05)
    assert fulmar.hot() == {"hotend"}
    os.kill(terminal.process_id, signal.SIGTERM)
    off_in_time(fulmar)
    assert terminal.ended() == 1


def test_a_run_ends_by_itself_behind_a_terminal_that_takes_nothing(heating, tmp_path):
    fulmar, terminal = heating()
    terminal.type(CTRL["Ctrl-S"])
    fulmar.until(r"hotend off", seconds=60)
    note(tmp_path)
    terminal.type(b"\x11")  # Ctrl-Q
    assert terminal.ended() == 0


@pytest.mark.parametrize("end, within_s", [(signal.SIGKILL, OFF_S), (signal.SIGSTOP, 40.0)])
def test_a_keeper_that_is_killed_or_hangs_is_done_without(end, within_s, heating, tmp_path):
    fulmar, terminal = heating()
    keeper = subprocess.run(
        ["pgrep", "-P", str(terminal.process_id)], capture_output=True, text=True
    ).stdout.split()
    os.kill(int(keeper[0]), end)
    fulmar.until(r"hotend off", seconds=within_s)
    assert terminal.ended() == 1 and fulmar.hot() == set()
    assert b"the keeper of the port was ended, or hung" in terminal.shown


def test_another_command_cools_what_a_running_one_heats(heating, tmp_path):
    fulmar, terminal = heating()
    done = subprocess.run(
        [sys.executable, "-m", "omphalon", "printer", "cool", "--port", fulmar.port],
        env={**os.environ, **ENV, "OMPHALON_STATE": str(tmp_path / "state")},
        capture_output=True,
        text=True,
    )
    assert done.returncode == 0 and "the heaters are off" in done.stdout
    off_in_time(fulmar)
    assert terminal.ended() == 1
    assert b"omphalon printer cool asked for it" in terminal.shown


def test_a_user_who_does_not_answer_finds_the_heaters_off_and_the_step_again(tmp_path):
    with StandIn(tmp_path, "--tcp", 0, "--pace", 200) as fulmar:
        words = ("printer", "tune", "extruder", "--yes", "--waits", 2, "--port", fulmar.port)
        terminal = Terminal(tmp_path, *words)
        try:
            fulmar.until(r"hotend 220")
            off_in_time(fulmar)  # nobody marks anything
            terminal.type(b"\n")
            fulmar.until(r"hotend off[^$]*hotend 220")
            assert b"nobody answered for so long" in terminal.shown
            terminal.type(b"\x03")
            assert terminal.ended() == 1 and fulmar.hot() == set()
        finally:
            terminal.kill()


def test_a_reading_that_goes_wrong_while_the_user_is_asked_ends_it(tmp_path):
    fault = ("--fault", "nan", "--fault-after", 400)
    with StandIn(tmp_path, "--tcp", 0, "--pace", 200, *fault) as fulmar:
        words = ("printer", "tune", "extruder", "--yes", "--port", fulmar.port)
        terminal = Terminal(tmp_path, *words)
        try:
            fulmar.until(r"hotend 220")
            assert terminal.ended() == 5
            assert b"the hotend reads nan" in terminal.shown and fulmar.hot() == set()
        finally:
            terminal.kill()


def test_keys_typed_before_a_question_do_not_answer_it(tmp_path):
    with StandIn(tmp_path, "--tcp", 0, "--pace", 500) as fulmar:
        words = ("printer", "tune", "heater", "--target", 235, "--port", fulmar.port)
        terminal = Terminal(tmp_path, *words)
        try:
            while b"begin?" not in terminal.shown:
                time.sleep(0.02)
            time.sleep(0.3)
            terminal.type(b"y\n")
            fulmar.until(r"hotend 235")
            terminal.type(b"y\ny\ny\n")
            while b"send these lines?" not in terminal.shown:
                time.sleep(0.02)
            time.sleep(1.0)
            assert terminal.ended(0.1) is None and "stored" not in fulmar.panel
            terminal.type(b"\x03")
            assert terminal.ended() == 1 and "stored" not in fulmar.panel
        finally:
            terminal.kill()
