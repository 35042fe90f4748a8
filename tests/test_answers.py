"""How answers leave: digits, JSON, text, dialects."""

import json
import math
import os
import pty
import re
import subprocess
import sys

import pytest

from omphalon.answers.finding import Finding, Plan, Shown, plain
from omphalon.answers.remarks import Remark
from omphalon.answers.settings import Setting
from omphalon.base.errors import OmphalonError, UnknownFormat
from omphalon.lines.dialect import load_dialect
from omphalon.lines.template import Entered, checked
from omphalon.report.text import WIDTH, text_of
from omphalon.tables.units import digits


@pytest.mark.parametrize(
    "value, spread, least, shown",
    [
        (437.1352785, 3.6, 3, "437.1"),
        (437.1352785, 0.036, 3, "437.135"),
        (437.1352785, None, 3, "437"),
        (0.0093453, 0.0012, 3, "0.0093"[:6] + "5"),
        (0.0093453, None, 2, "0.0093"),
        (12.0, 50.0, 3, "12.0"),
        (1234567.0, 1.0, 3, "1234567.0"),
        (-0.5, 0.01, 2, "-0.500"),
        (0.0, 0.1, 3, "0"),
        (math.nan, None, 3, "–"),
        (math.inf, None, 3, "–"),
    ],
)
def test_no_more_digits_than_the_spread_deserves(value, spread, least, shown):
    assert digits(value, spread, least) == shown


@pytest.mark.parametrize(
    "value, out",
    [
        (math.nan, None),
        (math.inf, None),
        (-math.inf, None),
        (1 / 3, 0.333333),
        (123456789.0, 123457000.0),
        (True, True),
        (None, None),
        (7, 7),
        ("°C", "°C"),
        ({"a": [1.0, math.nan], "b": (2.0,)}, {"a": [1.0, None], "b": [2.0]}),
    ],
)
def test_json_holds_no_nan_and_six_digits(value, out):
    assert plain(value) == out


FOUND = Finding(
    "heater-fit",
    "change",
    "because of this",
    "it means that",
    (Setting("hotend-gains", "kp", 1.0, 0.1),),
    {},
    {"x": math.nan},
    (Remark("slips", fall=0.02, slow=1.0, fast=5.0),),
    ("LINE 1", "LINE 2"),
    "do that",
    (Shown("part", ("present", "new", "", "")), Shown("kp", ("–", "1.0", "± 0.1", "per °C"))),
    (Shown("row", ("a", "b")), Shown("long", ("word " * 60,))),
)


def test_document_has_the_fixed_keys_and_the_remedy_of_each_warning():
    document = FOUND.document("0.1.0")
    assert list(document) == [
        "omphalon",
        "kind",
        "verdict",
        "because",
        "means",
        "settings",
        "spread",
        "evidence",
        "warnings",
        "lines",
        "next",
    ]
    assert document["warnings"][0]["code"] == "slip" and document["warnings"][0][
        "remedy"
    ].startswith("feed slower")
    json.dumps(document, allow_nan=False)


@pytest.mark.parametrize(
    "kind, verdict, code",
    [
        ("heater-fit", "change", 0),
        ("heater-fit", "keep", 0),
        ("heater-fit", "retest", 3),
        ("heater-check", "keep", 0),
        ("heater-check", "change", 4),
        ("heater-check", "retest", 3),
    ],
)
def test_exit_codes(kind, verdict, code):
    assert Finding(kind, verdict, "…").exit_code == code


def test_text_comes_in_its_order_and_width():
    import click

    text = click.unstyle(text_of(FOUND))
    places = [
        text.index(word)
        for word in (
            "CHANGE",
            "kp",
            "because of this",
            "it means that",
            "row",
            "the fed length falls by 2.0% from 1 to 5 mm/s",
            "LINE 1",
            "LINE 2",
            "do that",
        )
    ]
    assert places == sorted(places)
    assert max(map(len, text.splitlines())) <= WIDTH
    assert "[slip]" in text


def test_a_refusal_shows_its_reason_first_and_no_lines():
    import click

    text = click.unstyle(text_of(Finding("axis-fit", "retest", "too few", next="measure more")))
    assert text.startswith("RETEST  too few") and "measure more" in text and "enter" not in text


def test_a_plan_numbers_its_steps():
    import click

    text = click.unstyle(
        text_of(Plan("x-plan", "Title", ("first", "second"), ("G1",), "then this"))
    )
    assert (
        text.startswith("Title")
        and "  1. first" in text
        and "  2. second" in text
        and "enter   G1" in text
    )


@pytest.mark.parametrize(
    "setting, fields, line",
    [
        ("hotend-gains", {"kp": 32.2, "ki": 2.6, "kd": 61.4}, "M301 P32.20000 I2.60000 D61.40000"),
        (
            "bed-gains",
            {"kp": 0.00001, "ki": 0.5, "kd": 1e5},
            "M304 P0.00001 I0.50000 D100000.00000",
        ),
        ("hotend-oscillation", {"index": 0, "target": 235.0, "cycles": 8}, "M303 E0 S235 C8"),
        ("bed-oscillation", {"index": -1, "target": 75.0, "cycles": 6}, "M303 E-1 S75 C6"),
        ("steps", {"axis": "E", "steps": 437.13528}, "M92 E437.1353"),
        ("store", {}, "M500"),
        ("list", {}, "M503"),
        ("flow", {"flow": 0.94}, None),
        ("advance", {"advance": 0.05}, None),
        ("shaper", {"shaper": "zv"}, None),
        ("acceleration", {"acceleration": 3000}, None),
    ],
)
def test_the_default_dialect_has_shared_codes_only(setting, fields, line):
    assert load_dialect().line(setting, **fields) == line


@pytest.mark.parametrize(
    "form, value, half, better",
    [
        (".0f", 0.506, 0.01, ".3f"),  # a quarter of its half width may be lost
        (".2f", 0.0074, None, ".5f"),  # half a percent where it has none
        ("d", 0.6, None, ".3f"),
        (".1f", 437.13, 3.7, ""),
        (".3f", 0.5064, 0.01, ""),
        ("", 1e-7, None, ""),
    ],
)
def test_a_template_that_rounds_the_answer_away_is_refused(form, value, half, better):
    field = "advance" + (":" + form if form else "")
    dialect = load_dialect().with_line("advance", f"LEAD {{{field}}}")
    spread = {} if half is None else {"advance": half}
    if better:
        with pytest.raises(UnknownFormat, match=r"\{advance:" + re.escape(better) + r"\}"):
            dialect.lines_within("advance", {"advance": value}, spread)
    else:
        assert dialect.lines_within("advance", {"advance": value}, spread)


@pytest.mark.parametrize(
    "text, says",
    [
        ("lines = [", "not a TOML file"),
        ("lines = 3", "unknown setting 'lines'"),
        ("[lines]\nwarp = 'x'", "unknown setting 'warp'"),
        ("[lines]\nsteps = 5", "a line must be text; its fields are {axis}, {axis_lower}, {steps}"),
        ("[lines]\nsteps = {section = 'a'}", "not of the form {section, line}"),
        ('[lines]\nsteps = "M92 \\r E1"', "a control character or a line end in it"),
        ("[lines]\nsteps = '" + "M" * 201 + "'", "longer than 200 characters"),
        ("[lines]\nsteps = 'M92 {axis}{steps:99999999f}'", "the format '99999999f' of {steps}"),
        ("[lines]\nsteps = 'M92 {steps.__class__}'", "a field 'steps.__class__' in it"),
        ("[lines]\nsteps = 'M92 {steps!r}'", "of {steps}; use a plain one such as {steps:.4f}"),
        ("[lines]\nsteps = 'M92 {0}'", "a field '0' in it"),
        ("[shaper-names]\ntwo-hump = 'a b'", "[shaper-names] must hold plain words"),
        ("surprise = 1", "unknown key 'surprise'"),
        ("gain_scale = nan", "gain_scale must be a number above 0"),
        ("gain_scale = 0", "gain_scale must be a number above 0"),
        ("gain_scale = 'full'", "gain_scale must be a number above 0"),
        ("gain_scale = true", "gain_scale must be a number above 0"),
        ("[loop]\nperiod_s = 0", "[loop] period_s must be a number above 0"),
        ("[loop]\nspeed = 1", "[loop] is of another form"),
        (
            "[lines]\nhotend-gains = 'P {kp} {ki_per_loop} {kd}'",
            "a form of gains that needs period_s",
        ),
        (
            "[lines]\nbed-gains = 'P {kp_percent_band} {ki} {kd}'",
            "a form of gains that needs span_c",
        ),
    ],
)
def test_a_dialect_that_cannot_be_read(text, says, tmp_path):
    path = tmp_path / "mine.toml"
    path.write_text(text)
    with pytest.raises(OmphalonError) as error:
        load_dialect(str(path))
    assert says in str(error.value) and "; " in str(error.value)


@pytest.mark.parametrize("template", ["M301 P{kq}", "{kp:.5q}", "{}", "{kp.real.imag.x}"])
def test_a_template_that_cannot_be_filled_says_its_fields(template):
    with pytest.raises(OmphalonError) as error:
        checked(template, ("kp", "ki"), "mine")
    assert "{kp}" in str(error.value)


@pytest.mark.parametrize("value", [math.nan, math.inf, "X; M104 S400", "X\nM104"])
def test_nothing_but_numbers_and_plain_words_gets_into_a_line(value):
    field = "axis" if isinstance(value, str) else "steps"
    with pytest.raises(OmphalonError):
        load_dialect().line("steps", **{"axis": "X", "steps": 80.0, field: value})


def test_a_dialect_set_by_a_file_and_its_words_for_shapers(tmp_path):
    (tmp_path / "d.toml").write_text(
        '[lines]\nshaper = { section = "frame", line = "calm_{axis}: {shaper} {frequency:.1f}" }\n'
        '[shaper-names]\ntwo-hump = "twice"\n'
    )
    dialect = load_dialect(str(tmp_path / "d.toml"))
    values = {"axis": "x", "shaper": "two-hump", "frequency": 40.0, "damping": 0.1}
    assert dialect.lines_within("shaper", values, {}) == (Entered("calm_x: twice 40.0", "frame"),)
    assert dialect.line("shaper", **values) is None  # it is no code that could be sent


@pytest.mark.parametrize(
    "terminal, env, colour",
    [(False, {}, False), (True, {}, True), (True, {"NO_COLOR": "1"}, False)],
)
def test_colours_only_on_a_terminal_that_wants_them(terminal, env, colour):
    code = "import sys; sys.argv[1:] = ['heater', 'plan']; from omphalon.cli import main; main()"
    env = {k: v for k, v in {**os.environ, **env}.items() if k != "NO_COLOR" or k in env}
    if not terminal:
        out = subprocess.run([sys.executable, "-c", code], env=env, capture_output=True).stdout
    else:
        ours, theirs = pty.openpty()
        subprocess.run([sys.executable, "-c", code], env=env, stdout=theirs)
        out = os.read(ours, 100)
        os.close(ours)
        os.close(theirs)
    assert (b"\x1b[" in out) is colour


def test_quiet_prints_lines_only_and_warnings_aside(run):
    done = run("extruder", "fit", "--steps", "412", "--asked", "80", "--fed", "75.4", "--quiet")
    assert done.stdout == "M92 E437.1353\nM500\nM503\n"
    assert done.stderr.startswith("warning: one reading") and done.stderr.count("\n") == 1
