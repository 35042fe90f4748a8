"""What comes from elsewhere is data: archives, journals, dialects, ports, files, and lines."""

import json
import os
import sqlite3
import struct
import subprocess
import sys
import zipfile

import pytest

from omphalon.base.errors import UnknownFormat
from omphalon.base.shapes import parsed
from omphalon.bench.bench import Bench
from omphalon.bench.journal import digest
from omphalon.lines.codes import asked_by_name, codes_of, off_lines, targets_of, unfit
from omphalon.lines.dialect import load_dialect
from omphalon.printer.port import address_of
from omphalon.tables.heaters import Heater
from rig import StandIn

STAND_IN = load_dialect("stand-in")
DEEP = "[" * 100_000


@pytest.fixture
def bench(run, tmp_path):
    assert run("bench", "new", "b").returncode == 0
    return tmp_path / "b"


def super_journal(victim):
    """A rollback journal that names another file, which SQLite removes (file format, 3)."""
    name = str(victim).encode()
    header = bytes.fromhex("d9d505f920a163d7") + struct.pack(">IIIII", 0, 0, 0, 512, 4096)
    tail = name + struct.pack(">II", len(name), sum(name)) + bytes.fromhex("d9d505f920a163d7")
    return header.ljust(512, b"\0") + tail


def packed(path, bench, extra=(), instead=None):
    """An archive as `back-up` writes one, with more in it."""
    files = {name: (bench / name).read_bytes() for name in ("bench.toml", "bench.db")}
    files |= dict(extra) | (instead or {})
    import hashlib

    listed = {name: hashlib.sha256(content).hexdigest() for name, content in files.items()}
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, content in files.items():
            archive.writestr(name, content)
        archive.writestr("digests.json", json.dumps({"omphalon-bench": 1, "files": listed}))


@pytest.mark.parametrize(
    "name",
    [
        *("../out.toml", "/tmp/out.toml", "data/../../out", "a/b/c", "data\\..\\x", "data//x"),
        *("bench.db-journal", "bench.db-wal", "bench.db-shm", ".hidden", "data/.hidden", "x.toml"),
        "data/" * 9 + "x",
    ],
)
def test_an_archive_holds_only_what_a_back_up_writes(name, bench, run, tmp_path):
    packed(tmp_path / "bad.zip", bench, {name: b"x"})
    done = run("bench", "restore", "bad.zip", "there")
    assert done.returncode == 1 and "is no file of a bench" in done.stderr
    assert sorted(p.name for p in tmp_path.iterdir()) == ["b", "bad.zip"]


def test_a_back_up_takes_what_the_bench_uses_and_names_the_rest(bench, run, tmp_path):
    (bench / "my.lines").write_text('[lines]\nstore = "M500"\n')
    (bench / "prints" / "old").mkdir()
    (bench / "prints" / "old" / "tower.gcode").write_text("G28\n")
    (bench / "notes.txt").write_text("mine")
    assert run("bench", "set", "controller.dialect=my.lines", "--bench", "b").returncode == 0
    done = run("bench", "back-up", "b.zip", "--bench", "b")
    assert "left out  notes.txt" in done.stdout
    assert run("bench", "restore", "b.zip", "again").returncode == 0
    assert (tmp_path / "again" / "my.lines").exists()
    assert (tmp_path / "again" / "prints" / "old" / "tower.gcode").exists()


@pytest.mark.slow
def test_an_archive_is_unpacked_no_further_than_a_bench_is_large(bench, run, tmp_path, monkeypatch):
    packed(tmp_path / "bomb.zip", bench, {f"data/{n}": bytes(300_000_000) for n in range(4)})
    assert (tmp_path / "bomb.zip").stat().st_size < 3_000_000
    done = run("bench", "restore", "bomb.zip", "there")
    assert done.returncode == 1 and "unpacks to far too much" in done.stderr
    assert not (tmp_path / "there").exists()


@pytest.mark.parametrize("words", ["show", "next", "journal", "set nozzle.width=0.4", "report"])
def test_a_journal_of_sqlites_own_leads_to_no_other_file(words, bench, run, tmp_path):
    victim = tmp_path / "victim.txt"
    victim.write_text("precious")
    (bench / "bench.db-journal").write_bytes(super_journal(victim))
    done = run("bench", *words.split(), "--bench", "b")
    if words != "set nozzle.width=0.4":
        assert done.returncode == 1 and "was not left by omphalon" in done.stderr
    assert victim.read_text() == "precious"


def test_a_journal_with_a_write_ahead_log_is_refused(bench, run):
    with sqlite3.connect(bench / "bench.db") as base:
        base.execute("PRAGMA journal_mode = WAL")
    assert "was not left by omphalon" in run("bench", "show", "--bench", "b").stderr


BODIES = {
    "no body of a setting": ("setting", "flow", "{}"),
    "a value of another kind": ("setting", "flow", '{"value": {"flow": "x"}, "spread": {}}'),
    "no number": (
        *("setting", "flow"),
        '{"value": {"flow": NaN}, "spread": {}, "how": "found", "from": null}',
    ),
    "a finding of nothing": ("finding", "flow-fit", '{"document": 5}'),
    "a list": ("part", "nozzle", "[1]"),
    "deep": ("part", "nozzle", '{"note": "", "x": ' + DEEP[:90_000] + "]" * 90_000 + "}"),
    "a field of another kind": (
        *("setting", "shaper-x"),
        '{"value": {"shaper": 5}, "spread": {}, "how": "found", "from": null}',
    ),
    "a spread of words": (
        *("setting", "flow"),
        '{"value": {"flow": 1.0}, "spread": {"flow": "x"}, "how": "found", "from": null}',
    ),
}


@pytest.mark.parametrize("at", ["2026-11-20T10:00:00+00:00", "yesterday"])
@pytest.mark.parametrize("row", BODIES.values(), ids=BODIES)
def test_an_entry_that_omphalon_did_not_write_is_a_sentence(row, at, bench, run):
    kind, subject, body = row
    values = (at, kind, subject, None, 1, body)
    with sqlite3.connect(bench / "bench.db") as base:
        base.execute("PRAGMA ignore_check_constraints = ON")
        base.execute(
            "INSERT INTO entries (at, kind, subject, filament, schema, body, digest) "
            "VALUES (?, ?, ?, ?, ?, ?, ?)",
            (*values, digest(*values)),
        )
    for words in ("show", "next", "journal", "report", "journal --json", "sheet"):
        done = run("bench", *words.split(), "--bench", "b")
        assert "Traceback" not in done.stderr and "fault of omphalon" not in done.stderr
        assert done.returncode in (0, 1, 2), done.stderr
    assert run("bench", "journal", "--bench", "b").returncode == 1 or kind == "setting"


@pytest.mark.slow
def test_eight_that_set_facts_at_once_lose_none(bench, tmp_path):
    keys = ("bed.x", "bed.y", "bed.height", "nozzle.width", "extruder.gear", "controller.band")
    for turn in range(10):
        facts = [f"{key}={1 + turn / 10}" for key in keys] + [f"filament.f{turn}.temp={200 + turn}"]
        facts[:3] = [f"{key}={100 + turn}" for key in keys[:3]]
        running = [
            subprocess.Popen(
                [sys.executable, "-m", "omphalon", "bench", "set", fact, "--bench", str(bench)],
                stdout=subprocess.DEVNULL,
            )
            for fact in [*facts, f"printer.name=turn {turn}"]
        ]
        assert [one.wait() for one in running] == [0] * 8
        found = Bench(bench).facts()
        for fact in facts:
            key, _, value = fact.partition("=")
            assert found[key] == pytest.approx(float(value))
        assert found["printer.name"] == f"turn {turn}"


@pytest.mark.parametrize(
    "setting, line",
    [
        ("hotend-target", "M104 S450"),
        ("hotend-target", "M104 S{target:.0f} S450"),
        ("hotend-target", "M104 S450 T{target:.0f}"),
        ("bed-target", "M140 S{target:.0f} M109 S450"),
        ("bed-target", "HEAT 450 {target}"),
        ("break", "M109 S200"),
        ("fan-off", "m104s200"),
        ("report", "M104 S290"),
        ("identify", "M104 S0x12C"),
        ("number", "M110 N{number:.0f} M104 S290"),
        ("halt", "M568 P0 S35E1"),
        ("list", "M568 P0 S35"),
        ("report-every", "M155 S{seconds} M109 R250"),
        ("home", "M98 P290 {axis}"),
        ("flow", "M104 S{flow}"),
        ("advance", "M303 S{advance}"),
    ],
)
def test_a_dialect_in_which_a_line_heats_that_should_not_is_refused(setting, line, run, tmp_path):
    (tmp_path / "own.toml").write_text(f'[lines]\n{setting} = "{line}"\n')
    with pytest.raises(UnknownFormat, match="it could heat"):
        load_dialect(str(tmp_path / "own.toml"))
    where = ("--port", "/dev/null", "--dialect", "own.toml")
    done = run("printer", "send", "--line", "M503", *where)
    assert done.returncode == 1 and "it could heat" in done.stderr
    done = run("printer", "cool", *where)
    assert done.returncode == 1 and "own.toml is not used here" in done.stderr


@pytest.mark.parametrize("name", ["default", "stand-in"])
def test_the_dialects_that_ship_switch_off(name):
    heaters = map(Heater.named, ("hotend", "hotend 1", "bed", "chamber"))
    lines = off_lines(load_dialect(name), heaters)
    assert lines == ["M108", "M104 S0", "M104 T1 S0", "M140 S0", "M141 S0", "M107"]


@pytest.mark.parametrize(
    "port",
    [
        *("spy://loop://?file=F", "loop://", "alt:///dev/null?class=x", "rfc2217://h:1"),
        *("hwgrep://x", "socket://127.0.0.1", "socket://h:1?logging=debug", "socket://a@b:1"),
    ],
)
def test_a_port_is_a_device_or_a_socket_and_nothing_else(port, run, bench, tmp_path):
    (tmp_path / "F").write_text("precious")
    done = run("printer", "send", "--line", "M503", "--port", port)
    assert done.returncode == 1 and "no port" in done.stderr
    run("bench", "set", f"controller.port={port}", "--bench", "b")
    done = run("printer", "send", "--line", "M503", "--bench", "b")
    assert done.returncode in (1, 2) and (tmp_path / "F").read_text() == "precious"


def test_every_name_of_a_port_is_one_address(tmp_path):
    hosts = ("127.0.0.1", "127.1", "localhost", "[::1]", "[::ffff:127.0.0.1]")
    names = {address_of(f"socket://{host}:5555{end}") for host in hosts for end in ("", "/")}
    assert len(names) == 1
    (tmp_path / "link").symlink_to("/dev/null")
    assert address_of(str(tmp_path / "link")) == address_of("/dev/null")
    assert address_of("socket://127.0.0.1:5556") not in names


@pytest.mark.parametrize(
    "words",
    [
        *(["heater", "fit", "{}"], ["extruder", "fit", "{}", "--steps", "400"]),
        *(["shaper", "fit", "--x", "{}"], ["bench", "new", "n", "--listing", "{}"]),
        *(["bench", "readback", "{}", "--bench", "b"], ["heater", "plan", "--dialect", "{}"]),
        *(["advance", "fit", "{}"], ["bench", "restore", "{}", "n"]),
        ["bench", "trial", "--outcome", "x", "--photo", "{}", "--bench", "b"],
    ],
    ids=lambda words: " ".join(words[:2]),
)
@pytest.mark.parametrize("what", ["fifo", "device"])
def test_a_pipe_or_a_device_is_no_file(what, words, run, bench, tmp_path):
    place = "/dev/zero" if what == "device" else str(tmp_path / "pipe")
    if what == "fifo":
        os.mkfifo(place)
    done = run(*(word.format(place) for word in words))
    assert done.returncode in (1, 2) and len(done.stderr.splitlines()) == 1
    assert "fault of omphalon" not in done.stderr


@pytest.mark.parametrize("text", [DEEP, '{"a": NaN}', "5", "", '{"note": 5}'])
def test_json_of_another_shape_is_refused(text):
    with pytest.raises(ValueError, match=".*"):
        parsed(text, {"note": str})


READ = {
    "M104 S200": {"hotend": 200.0},
    "m104s200": {"hotend": 200.0},
    "M 104 S 200": {"hotend": 200.0},
    "M0104 S200": {"hotend": 200.0},
    "M104 S0 S450": {"hotend": 450.0},
    "M109 R180": {"hotend": 180.0},
    "M104 T1 S210": {"hotend 1": 210.0},
    "M104 T1e999 S210": {"hotend 99": 210.0},
    "T1 M104 S210": {"hotend": 210.0},
    "G1 X10 M140 S60": {"bed": 60.0},
    "M104 S2e2": {"hotend": 200.0},
    "M303 E-1 S60 C8": {"bed": 60.0},
    "M303 E0 S235 C8": {"hotend": 235.0},
    "M104 S0": {"hotend": 0.0},
    "M104 (S450) S0 ; S450": {"hotend": 0.0},
    "M141 S60": {"chamber": 60.0},
    "G1 X10 S200": {},
    "LEAD 0.5": {},
}


@pytest.mark.parametrize("line, targets", READ.items())
def test_what_a_line_heats_is_read_in_any_spelling(line, targets):
    assert {str(h): c for h, c in targets_of(line, STAND_IN).items()} == targets


@pytest.mark.parametrize(
    "line, words",
    [
        ("N5 M104 S200*34", "number or a check sum"),
        ("M104 S200*34", "number or a check sum"),
        ("n 5 M104", "number or a check sum"),
        ("m110", "number or a check sum"),
        ("M92 E٤١٢", "no plain letters"),
        ("M92 E1\x1b[2J", "no plain letters"),
        ("M117 " + "x" * 300, "longer"),
    ],
)
def test_a_line_that_would_put_the_count_out_of_step_is_not_sent(line, words, run, tmp_path):
    assert words in unfit(line)
    (tmp_path / "sheet.txt").write_text(f"M92 E400\n{line}\n", encoding="utf-8")
    done = run("printer", "send", "sheet.txt", "--yes", "--port", "/dev/null")
    assert done.returncode == 1 and "row 2" in done.stderr and words in done.stderr
    assert run("printer", "send", "--line", line, "--port", "/dev/null").returncode == 2


@pytest.mark.parametrize(
    "line, words",
    [
        ("m502", "a factory reset"),
        ("M997", "an update of the controller's program"),
        ("M104 S301", "the hotend at 301 °C"),
        ("M190 S121", "the bed at 121 °C"),
        ("M104 S300", None),
        ("M500", None),
    ],
)
def test_what_cannot_be_taken_back_is_asked_for_by_name(line, words, run, tmp_path):
    assert [told.partition(" (")[0] for told in asked_by_name(line, STAND_IN)] == (
        [words] if words else []
    )
    (tmp_path / "sheet.txt").write_text(f"M92 E400\n{line}\n")
    done = run("printer", "send", "sheet.txt", "--yes", "--port", "/dev/null")
    assert (f"really {words}" in done.stderr) == bool(words) and done.returncode == 1


def test_every_line_of_a_sheet_is_shown(run, tmp_path):
    lines = [f"M92 E{400 + n}" for n in range(30)] + ["M500", "M104 S205"]
    moves = [f"G1 X{n} Y0 F3000" for n in range(500)]
    (tmp_path / "sheet.txt").write_text("\n".join([*moves, *lines, *moves]) + "\n")
    done = run("printer", "send", "sheet.txt", "--port", "/dev/null")
    assert done.returncode == 1 and "nothing was sent" in done.stderr
    assert all(f"  {line}\n" in done.stdout for line in lines)
    assert done.stdout.count("… 498 more moves") == 2 and len(done.stdout.splitlines()) < 50


def test_comments_hide_no_code():
    assert codes_of("; M104 S200") == [] and codes_of("hello M104 S200") == []


@pytest.mark.parametrize(
    "words, told",
    [
        ("--tls-ca ca.pem", "without --scheduler"),
        ("--scheduler tcp://127.0.0.1:1 --tls-ca ca.pem", "--tls-ca without tls://"),
        ("--scheduler tls://127.0.0.1:1", "its certificates cannot be used"),
        ("--scheduler tls://127.0.0.1:1 --tls-ca none.pem", "its certificates cannot be used"),
    ],
)
def test_a_scheduler_is_not_met_without_its_certificates(words, told, run, tmp_path):
    (tmp_path / "farm.csv").write_text(
        "printer,study,steps,asked,fed\na,extruder,400,80,79.5 79.6\n"
    )
    done = run("farm", "fit", "farm.csv", "--out", "out", *words.split())
    assert done.returncode == 2 and told in done.stderr and len(done.stderr.splitlines()) == 1


def test_a_dialect_of_ones_own_is_shown_before_its_first_use(run, tmp_path):
    from importlib import resources

    text = (resources.files("omphalon.lines") / "dialects" / "default.toml").read_text()
    (tmp_path / "own.toml").write_text(text)
    env = {"OMPHALON_STATE": str(tmp_path / "state")}
    with StandIn(tmp_path, "--tcp", 0) as fulmar:
        where = ("--dialect", "own.toml", "--port", fulmar.port)

        def send(*words):
            return run("printer", "send", "--line", "M503", *where, *words, env=env)

        assert "hotend-target = M104 S{target:.0f}" in send().stderr
        assert send().returncode == 1  # nobody has agreed
        assert send("--yes").returncode == 0
        assert "hotend-target" not in send().stderr and send().returncode == 0
        (tmp_path / "own.toml").write_text(text.replace("M500", "M500 ; M104"))
        assert "store = M500 ; M104" in send().stderr and send().returncode == 1


def test_a_table_without_rows_says_so(run, tmp_path):
    assert run("heater", "fit", "--template", "empty.csv").returncode == 0
    done = run("heater", "fit", "empty.csv")
    assert done.returncode == 1 and "no rows below its header" in done.stderr


@pytest.mark.parametrize("name", ["default", "stand-in"])
def test_a_file_named_as_a_shipped_dialect_is_not_it(name, run, tmp_path):
    (tmp_path / name).write_text('[lines]\nhotend-target = "M104 S450 ; {target}"\n')
    done = run("heater", "plan", "--dialect", name)
    assert done.returncode == 0 and "M303" in done.stdout
