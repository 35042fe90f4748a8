"""The wire without a port: bytes, lines and times are handed to the dialogue, the guard, the courses."""

import math

import pytest

from omphalon.base.errors import LinkFault, OmphalonError, UnknownFormat, Unsafe
from omphalon.lines.dialect import load_dialect
from omphalon.lines.listing import differing
from omphalon.printer.capture import capture
from omphalon.printer.course import Cooling, HeatAndHold, Moment, Oscillation, Watching
from omphalon.printer.dialogue import Dialogue, LineReader, Speech, framed
from omphalon.printer.guard import Guard, GuardLimits, ReportClock
from omphalon.printer.link import Link, hello
from omphalon.printer.off import seen_off, switch_off
from omphalon.printer.send import lines_of, send
from omphalon.recordings.reports import Heating, Status, report_of
from omphalon.report.live import drawn, headline, near_target
from omphalon.tables.heaters import HOTEND, Heater


def test_a_frame_holds_number_and_check_sum():
    # 78^51^32^84^48 by hand
    assert framed("T0", 3) == b"N3 T0*57\n"


@pytest.mark.parametrize(
    "line, kind",
    [
        (b"ok", Speech.OK),
        (b"ok T:210.0 /210.0 B:60.0 /60.0 @:64 B@:20", Speech.OK),
        (b"okay then", Speech.WORD),
        (b"Resend: 12", Speech.AGAIN),
        (b"rs N12", Speech.AGAIN),
        (b"Error: no", Speech.REFUSAL),
        (b'word: Unknown command: "X1"', Speech.REFUSAL),
        (b"!! stopped", Speech.REFUSAL),
        (b"start", Speech.START),
        (b"starting the test", Speech.WORD),
        (b" T:23.4 /0.0 B:19.5 /0.0 @:0 B@:0", Speech.REPORT),
        (b"busy: working", Speech.BUSY),
        (b"echo:busy: processing", Speech.BUSY),
        (b"error: check sum of line 5", Speech.MISHEARD),
        (b"Error:Line Number is not what follows the last line", Speech.MISHEARD),
        (b"\xff\xfe\x81", Speech.NOISE),
        (b"a\x01b", Speech.NOISE),
    ],
)
def test_lines_are_known_by_their_words(line, kind):
    heard = list(LineReader().read(line + b"\r\n"))
    assert [one.kind for one in heard] == [kind]
    assert heard[0].number == (12 if kind is Speech.AGAIN else None)


@pytest.mark.parametrize("size", [1, 2, 7, 1000])
def test_it_does_not_matter_how_bytes_are_cut_into_pieces(size):
    data = b"start\nok\n\nT:20.1 /0.0 @:0\nhalf of a li" + b"ne\n" + b"x" * 9000 + b"\nok\n"
    reader = LineReader()
    kinds = [one.kind for n in range(0, len(data), size) for one in reader.read(data[n : n + size])]
    assert kinds == [Speech.START, Speech.OK, Speech.REPORT, Speech.WORD, Speech.NOISE, Speech.OK]


def talk(dialogue, events, line="M92 E400"):
    """Say a line at 0 s, then take (time, bytes) in; the bytes that were said again."""
    dialogue.say("M110 N0", 0.0)
    list(dialogue.read(b"ok\n", 0.0))
    dialogue.say(line, 0.0)
    again = b""
    for time, data in events:
        list(dialogue.read(data, time))
        again += dialogue.due(time)
    return again


FRAME = framed("M92 E400", 1)
ACKNOWLEDGED, WAITING, REFUSED = "acknowledged", "waiting", "refused"
TALKS = {
    "plain": ([(0.1, b"ok\n")], b"", ACKNOWLEDGED),
    "words before": ([(0.1, b"tell: E400\nok\n")], b"", ACKNOWLEDGED),
    "again, with its own ok": (
        [(0.1, b"error: check sum\nresend: 1\nok\n"), (0.2, b""), (0.3, b"ok\n")],
        FRAME,
        ACKNOWLEDGED,
    ),
    "again, without an ok": (
        [(0.1, b"resend: 1\n"), (0.8, b""), (0.9, b"ok\n")],
        FRAME,
        ACKNOWLEDGED,
    ),
    "the ok was lost": (
        [(6.0, b""), (6.1, b"error: out of turn\nresend: 2\nok\n")],
        FRAME,
        ACKNOWLEDGED,
    ),
    "refused": ([(0.1, b"error: not allowed\nok\n")], b"", REFUSED),
    "refused without an ok": (
        [(0.1, b"error: not allowed\n"), (1.0, b""), (2.0, b"")],
        b"",
        REFUSED,
    ),
    "nothing yet": ([(4.9, b"busy\n")], b"", WAITING),
    "a report is no answer": ([(0.1, b"T:20.0 /0.0 @:0\n")], b"", WAITING),
}


@pytest.mark.parametrize("events, again, end", TALKS.values(), ids=TALKS)
def test_a_line_is_said_again_until_it_is_acknowledged(events, again, end):
    dialogue = Dialogue(numbered=True)
    assert talk(dialogue, events) == again
    told = REFUSED if dialogue.refused else WAITING if dialogue.pending else ACKNOWLEDGED
    assert told == end


@pytest.mark.parametrize("pieces", [[b"resend: 2\nok\n"], [b"resend: 2\n", b"ok\n"]])
def test_the_ok_behind_a_resend_is_not_taken_for_the_next_one(pieces):
    dialogue = Dialogue(numbered=True)
    talk(dialogue, [(6.0 + n / 100, data) for n, data in enumerate(pieces)])
    dialogue.say("M105", 6.1)
    list(dialogue.read(b"T:20.0 /0.0 @:0\nok\n", 6.2))
    assert dialogue.pending is None


@pytest.mark.parametrize(
    "events, words",
    [
        ([(0.1, b"start\n")], "restarted"),
        ([(n * 6.0, b"") for n in range(1, 7)], "said 5 times"),
        ([(0.1, b"resend: 0\n")], "lost count"),
    ],
    ids=["restart", "silence", "lost count"],
)
def test_a_link_that_cannot_go_on_says_why(events, words):
    with pytest.raises(LinkFault, match=words):
        talk(Dialogue(numbered=True), events)


def test_a_line_without_a_number_is_never_said_twice():
    dialogue = Dialogue(numbered=False)
    dialogue.say("G1 E80", 0.0)
    with pytest.raises(LinkFault, match="no answer to G1 E80"):
        dialogue.due(10.0)


def heating(seconds, start=20.0, rise=2.0, power=127, target=235.0):
    return [(float(t), start + rise * t, target, power) for t in range(seconds)]


HEATED = {
    "heats up": (heating(100), None),
    "stands still at full power": (heating(80, 100.0, 0.0), "full power for a minute"),
    "falls at full power": (heating(80, 200.0, -0.5), "full power for a minute"),
    "holds at half power": (heating(300, 235.0, 0.0, power=60), None),
    "holds near the target at full power": (heating(300, 233.0, 0.0), None),
    "too hot": (
        [
            (0.0, 200.0, 235.0, 0),
            (1.0, 261.0, 235.0, 0),
            (2.0, 262.0, 235.0, 0),
            (3.0, 263.0, 235.0, 0),
        ],
        "above 260",
    ),
    "one slip of the wire": (
        [(0.0, 200.0, 235.0, 0), (1.0, 900.0, 235.0, 0), (2.0, 200.4, 235.0, 0)],
        None,
    ),
    "jumps": (
        [
            (0.0, 20.0, 235.0, 127),
            (1.0, 120.0, 235.0, 127),
            (2.0, 121.0, 235.0, 127),
            (3.0, 122.0, 235.0, 127),
        ],
        "jumps from 20",
    ),
    "no sensor": ([(t, -60.0, 0.0, 0) for t in range(3)], "broken or loose"),
    "no power told, and it rises": (heating(100, power=math.nan), None),
    "no power told, and it stands still": (heating(80, 100.0, 0.0, power=math.nan), "not reported"),
    "power of another scale": (heating(80, 100.0, 0.0, power=200), "full power for a minute"),
    "nan": ([(float(t), math.nan, 235.0, 127) for t in range(4)], "reads nan"),
    "inf": ([(float(t), math.inf, 235.0, 127) for t in range(4)], "reads inf"),
    "never arrives": (heating(700, 100.0, 0.05), "not come to 235 °C within 10 minutes"),
    "set to 0 at the panel": (
        [*heating(60), *[(60.0 + t, 138.0, 0.0, 0) for t in range(5)]],
        "set to 0 at the printer",
    ),
}


def seen_by(guard, rows, real=None):
    """Hand (time, reading, target, power) of the hotend to a guard."""
    for time, reading, target, power in rows:
        told = "" if math.isnan(power) else f" @:{power}"
        now = time if real is None else real(time)
        guard.look(report_of(f"{time} T:{reading:.2f} /{target:.2f}{told}"), now)
        guard.tick(now)


@pytest.mark.parametrize("rows, words", HEATED.values(), ids=HEATED)
def test_a_heater_that_must_not_go_on_is_stopped(rows, words):
    guard = Guard(GuardLimits())
    guard.asked(HOTEND, 235.0, 0.0)
    if words is None:
        seen_by(guard, rows)
    else:
        with pytest.raises(OmphalonError, match=words):
            seen_by(guard, rows)


def test_a_stamp_that_stands_still_stops_no_guard():
    guard = Guard(GuardLimits())
    guard.asked(HOTEND, 235.0, 0.0)
    rows = [(5.0, 100.0, 235.0, 127)] * 100
    with pytest.raises(Unsafe, match="full power for a minute"):
        for n, row in enumerate(rows):
            seen_by(guard, [row], lambda time, n=n: float(n))


def test_a_line_that_ends_it_has_its_time_to_come_through():
    guard = Guard(GuardLimits())
    guard.asked(HOTEND, 235.0, 0.0)
    seen_by(guard, [(float(n), 230.0, 235.0, 60) for n in range(5)])
    guard.asked(HOTEND, 0.0, 5.0)
    seen_by(guard, [(float(n), 230.0, 235.0, 60) for n in range(5, 15)])
    with pytest.raises(Unsafe, match="235 °C that was not asked for here"):
        seen_by(guard, [(float(n), 230.0, 235.0, 60) for n in range(15, 20)])


@pytest.mark.parametrize(
    "line, words",
    [
        ("T:20 /0 @:0", "the bed is on, and was not read for 11 s"),
        ("busy: at work", "the bed is on, and was not read for 11 s"),
        ("T:20 /0 T1:20 /210 B:21 /60", "the hotend 1 has a target of 210 °C that was not asked"),
        ("T:20 /0 T1:20 /0 B:nan /60", "the bed reads nan"),
    ],
)
def test_only_a_reading_of_the_heater_proves_that_it_lives(line, words):
    guard = Guard(GuardLimits())
    guard.asked(Heater("bed"), 60.0, 0.0)
    with pytest.raises(Unsafe, match=words):
        for second in range(20):
            report = report_of(line)
            if report is not None:
                guard.look(report, float(second))
            guard.tick(float(second))


@pytest.mark.parametrize("limit, stops", [(None, False), (205.0, True)])
def test_the_limit_may_be_set(limit, stops):
    guard = Guard(GuardLimits(max_temp_c=limit))
    try:
        seen_by(guard, [(float(n), 200.0 + n, 235.0, 127) for n in range(10)])
    except Unsafe as error:
        assert stops and "above 205" in error.problem
    else:
        assert not stops


def moments(course, rows, waiting=True):
    """Hand (time, reading, target, power) rows to a course; when it was over, and its lines."""
    lines = []
    for time, reading, target, power in rows:
        seen = Heating(temperature_c=reading, target_c=target, power=power)
        held = waiting(time) if callable(waiting) else waiting
        lines += course.at(Moment(time_s=time, seen=seen, waiting=held))
        if course.over:
            return time, lines
    return None, lines


def square(seconds, told=235.0):
    """On and off every 10 s for so long, then off."""
    return [
        (float(t), 235.0, told if t < seconds else 0.0, 127.0 * (t // 10 % 2 == 0 and t < seconds))
        for t in range(seconds + 300)
    ]


@pytest.mark.parametrize(
    "rows, waiting, over",
    [
        (square(100), lambda t: t < 104, 104.0),
        (square(100), False, 210.0),  # acknowledged at once: off for two minutes ends it
        (square(100, told=0.0), lambda t: t < 104, 104.0),  # no target is told during the test
    ],
    ids=["acknowledged at its end", "acknowledged at once", "target not told"],
)
def test_a_test_ends_when_it_is_over(rows, waiting, over):
    course = Oscillation("M303 E0 S235 C5", HOTEND, 235.0, None, 5)
    ended, _ = moments(course, rows, waiting)
    assert ended == pytest.approx(over, abs=12)
    assert course.cycles() == 4


def test_time_left_is_told_by_the_last_cycles():
    course = Oscillation("M303 E0 S235 C8", HOTEND, 235.0, None, 8)
    moments(course, square(200)[:95])
    # ten times on in all, every 20 s: the last begins at 180 s
    now = Moment(time_s=94.0, seen=Heating(temperature_c=235.0), waiting=True)
    assert course.left_s(now) == pytest.approx(200 - 94, abs=20)


def test_a_hold_turns_the_fan_on_late_and_ends():
    blow, later = "M106 S255", [(120.0, "M106 S255")]
    course = HeatAndHold(235.0, ["M107", "M104 S235"], later, 200.0, blow)
    assert course.start() == ["M107", "M104 S235"] and course.blows() is False
    rows = [(float(t), min(20 + 2.0 * t, 235.0), 235.0, 127.0) for t in range(600)]
    over, lines = moments(course, rows)
    near = (225 - 20) / 2
    assert over == pytest.approx(near + 200, abs=2) and lines == [blow] and course.blows()


def test_cold_is_cold_enough_or_cools_no_more():
    falling = [(float(t), 22 + 200 * math.exp(-t / 200), 0.0, 0.0) for t in range(3000)]
    over, _ = moments(Cooling(), falling)
    assert 22 + 200 * math.exp(-over / 200) == pytest.approx(30, abs=0.2)
    warm_room = [(float(t), 33 + 60 * math.exp(-t / 200), 0.0, 0.0) for t in range(3000)]
    over, _ = moments(Cooling(), warm_room)
    assert 33 < 33 + 60 * math.exp(-over / 200) < 36


def test_watching_ends_after_its_time():
    rows = [(t * 0.1, 20.0, 0.0, 0.0) for t in range(1000)]
    assert moments(Watching([], 30.0, HOTEND), rows)[0] == pytest.approx(30.0, abs=0.11)
    assert moments(Watching([], None, HOTEND), rows)[0] is None


def test_watching_what_a_line_has_heated_ends_when_it_has_been_off_for_long():
    rows = [(float(t), 200.0, 235.0 if t < 100 else 0.0, 127.0 * (t < 100)) for t in range(400)]
    assert moments(Watching(["M303 E0 S235 C8"], None, HOTEND), rows, waiting=False)[0] == 220.0
    assert (
        moments(Watching(["M105"], None, HOTEND), [(t, 20.0, 0.0, 0.0) for t, *_ in rows])[0]
        is None
    )


@pytest.mark.parametrize(
    "stamps, times",
    [
        (["5.0", "6.0", "7.0"], [0, 1, 2]),
        (["", "", ""], [0, 1, 2]),
        (["5.0", "95000", "7.0"], [0, None, 2]),
        (["5.0", "55.0", "7.0"], [0, None, 2]),
        (["5.0", "2.0", "7.0"], [0, None, 2]),
        (["15.0", "2.0", "77.0", "18.0"], [0, None, None, 3]),
        (["5.0", "95.0", "96.0", "97.0"], [0, None, None, 92]),
        (["905.0", "6.0", "7.0", "8.0", "9.0"], [0, None, None, 2, 3]),
        (
            ["100", "101", "102", "103", "104", "2", "3", "4"],
            [0, 1, 2, 3, 4, None, None, LinkFault],
        ),
        (
            ["100", "101", "102", "103", "104", "113", "106", "107", "108", "109"],
            [0, 1, 2, 3, 4, 13, None, None, 8, 9],
        ),
    ],
    ids=[
        *("its own", "ours", "one slip ahead", "a near slip ahead", "one slip back"),
        *("two slips", "a gap", "the first one a slip", "restarted", "a slip near enough"),
    ],
)
def test_reports_carry_their_own_time_or_ours(stamps, times):
    clock = ReportClock()
    for n, (stamp, time) in enumerate(zip(stamps, times, strict=True)):
        report = report_of(f"{stamp} T:20.0 /0.0 @:0")
        if time is LinkFault:
            with pytest.raises(LinkFault, match="goes back"):
                clock.seconds_of(report, 40.0 + n)
        else:
            assert clock.seconds_of(report, 40.0 + n) == time


class Scripted:
    """A wire with a printer at its end that answers by a table; time passes with every read."""

    def __init__(self, answers):
        self.answers, self.heard, self.bare, self.out, self.now = answers, [], [], b"", 0.0

    def read(self):
        self.now += 0.05
        data, self.out = self.out, b""
        return data

    def write(self, data):
        for line in filter(None, data.decode().splitlines()):
            framed = line.startswith("N")
            bare = line.split(" ", 1)[1].rsplit("*", 1)[0] if framed else line
            (self.heard if framed else self.bare).append(bare)
            self.out += self.answer(bare.split()[0])

    def answer(self, code):
        return self.answers.get(code, b"ok\n")

    def close(self):
        pass


def linked(**answers):
    wire = Scripted(answers)
    link = Link(wire, load_dialect("stand-in"), lambda: wire.now)
    hello(link)
    return wire, link


def falling(start, step, rest):
    """Reports of a hotend that cools, one an answer."""
    reading = start

    def answer():
        nonlocal reading
        reading -= step
        return f"T:{reading:.2f} {rest}\nok\n".encode()

    return answer


def test_a_line_waits_for_a_report_that_is_not_acknowledged_yet():
    wire, link = linked(M105=b"T:20.0 /0.0 B:20.0 /0.0 @:0 B@:0\n")
    assert seen_off(link) == {}
    wire.answers["M105"] = b"ok\n"  # said again
    assert link.tell("M500") == [] and wire.heard[-2:] == ["M105", "M500"]


OFF = {
    "off and falling": (falling(200, 0.3, "/0.0 B:60.0 /0.0 @:0 B@:0"), False),  # the bed stands
    "off, both fall": (falling(200, 0.3, "/0.0 B:30.0 /0.0 @:0 B@:0"), True),
    "off and cold": (falling(25, 0.0, "/0.0 B:20.0 /0.0 @:0 B@:0"), True),
    "the bed is on": (falling(200, 0.3, "/0.0 B:60.0 /60.0 @:0 B@:40"), False),
    "it has power": (falling(200, 0.3, "/0.0 B:20.0 /0.0 @:9 B@:0"), False),
    "a second hotend is on": (falling(200, 0.3, "/0.0 T1:200 /210 @:0"), False),
    "off, and rising": (falling(200, -0.3, "/0.0 B:20.0 /0.0 @:0 B@:0"), False),
    "no target is told": (falling(200, 0.0, ""), False),
    "no target is told, and it falls far": (falling(200, 0.5, ""), True),
    "nothing is reported": (lambda: b"ok\n", False),
}


@pytest.mark.parametrize("answer, shown", OFF.values(), ids=OFF)
def test_heaters_are_off_only_where_reports_show_it(answer, shown):
    wire, link = linked()
    wire.answer = lambda code: answer() if code == "M105" else b"ok\n"
    off = switch_off(link)
    assert off.shown == shown and (off.words == "the heaters are off") == shown
    assert ("M112" in wire.heard) != shown  # as a last resort it is halted
    for line in ("M108", "M110 N0", "M104 S0", "M140 S0", "M107"):
        assert line in wire.heard
    assert wire.bare.count("M104 S0") >= 1  # and once more without a number
    if "second" in repr(answer):
        assert "M104 T1 S0" in wire.heard


def test_every_heater_that_the_reports_name_is_switched_off():
    wire, link = linked()
    hot = {"T1": True}

    def answer(code):
        if code == "M105":
            rest = f"T1:{200 if hot['T1'] else 30} /{210 if hot['T1'] else 0}"
            return f"T:25 /0 {rest} C:30 /0 @:0\nok\n".encode()
        return b"ok\n"

    def write(data, write=wire.write):
        hot["T1"] &= b"M104 T1 S0" not in data
        write(data)

    wire.answer, wire.write = answer, write
    assert switch_off(link).shown
    assert {"M104 S0", "M104 T1 S0", "M140 S0", "M141 S0"} <= set(wire.heard)


def test_sending_stops_at_a_refusal_and_says_what_was_applied():
    wire, link = linked(M301=b"error: not allowed\nok\n")
    lines = ["M92 E400", "M301 P1 I2 D3", "M500"]
    done = send(link, lines, lambda n: None)
    assert (done.applied, done.doubtful, done.left) == (("M92 E400",), (), tuple(lines[1:]))
    assert "M500" not in wire.heard and "refuses M301" in done.fault.problem


@pytest.mark.parametrize(
    "answers, found",
    [
        ([b"E412\n", b"E412\n"], "E412\n"),
        ([b"E42\n", b"E412\n", b"E412\n"], "E412\n"),
        ([b"E412\n", b"E41\n", b"E412\n", b"E412\n"], "E412\n"),
        ([b"E%d\n" % n for n in range(9)], LinkFault),
    ],
    ids=["the same", "a byte lost", "a byte lost in the second", "never the same"],
)
def test_a_listing_is_read_until_two_are_the_same(answers, found):
    wire, link = linked()
    answers = iter(answers)
    wire.answer = lambda code: next(answers) + b"ok\n" if code == "M503" else b"ok\n"
    if found is LinkFault:
        with pytest.raises(LinkFault, match="another one each time"):
            link.listing()
    else:
        assert link.listing() == found
        assert send(link, ["M92 E400"], lambda n: None).applied == ("M92 E400",)


def test_what_was_never_acknowledged_is_in_doubt():
    wire, link = linked(M301=b"")
    wire.answers["M301"] = b""
    done = send(link, ["M92 E400", "M301 P1 I2 D3", "M500"], lambda n: None)
    assert done.doubtful == ("M301 P1 I2 D3",) and done.left == ("M500",)
    assert "silent" in done.fault.problem


def test_reports_are_asked_for_where_they_do_not_come_by_themselves():
    wire, link = linked(M105=b"ok T:20.0 /0.0 B:20.0 /0.0 @:0 B@:0\n")
    done = capture(link, Watching([], 20.0, HOTEND), HOTEND, None, lambda s: None, 0.5)
    assert done.reports == pytest.approx(41, abs=3) and done.with_power
    assert set(wire.heard[2:]) == {"M105"}


@pytest.mark.parametrize(
    "answer",
    [b'error: unknown command "M155"\nok\n', b'word: Unknown command: "M155"\nok\n', b"ok\n"],
    ids=["refused", "not known", "promised and not kept"],
)
def test_a_printer_that_does_not_report_by_itself_is_asked(answer):
    wire, link = linked(M155=answer, M105=b"ok T:20.0 /0.0 B:20.0 /0.0 @:0 B@:0\n")
    link.ask_for_reports(1.0)
    done = capture(link, Watching([], 20.0, HOTEND), HOTEND, None, lambda s: None)
    assert done.reports >= 6


def test_only_bare_lines_reach_the_printer():
    sheet = "; gains, was 79\nM301 P1 ; hot\n\n# a note\nLEAD 0.5\n  M500\nG1.1 X5\nT0\n"
    told = ["M301 P1", "LEAD 0.5", "M500", "G1.1 X5", "T0"]
    assert lines_of(sheet, "sheet.txt", load_dialect("stand-in")) == told


@pytest.mark.parametrize(
    "text, words",
    [
        ("M500\nOmphalon turns small experiments\n", "row 2: Omphalon turns"),
        ("time_s,temperature_c\n", "row 1: time_s"),
        ("M92 E400\nM92 \x1b[2J\n", "row 2"),
        ("M92 E400\nLEAD 0.5\n", "row 2: LEAD"),  # a word of another dialect
        (f"M117 {'x' * 300}\n", "row 1"),
        ("; nothing but a comment\n", "no line that could be sent"),
    ],
)
def test_a_file_that_is_no_sheet_is_refused_with_its_row(text, words):
    with pytest.raises(UnknownFormat, match=words):
        lines_of(text, "sheet.txt", load_dialect("default"))


@pytest.mark.parametrize(
    "listing, same, told",
    [
        ("tell: M92 X80.0000 E400.0000\ntell: M301 P1.00 I2.00 D3.00", 4, 0),
        ("tell: M92 X80.0000 E401.0000\ntell: M301 P1.00 I2.00 D3.00", 3, 1),
        ("tell: M92 X80.0000 E400.0000", 1, 1),
    ],
    ids=["agrees", "a value", "a setting is missing"],
)
def test_a_listing_is_compared_with_what_was_sent(listing, same, told):
    sheet = "M92 E400\nM301 P1 I2 D3"
    found = differing(sheet, listing, load_dialect("stand-in"))
    assert (found[0], len(found[1])) == (same, told)


def status(**changes):
    seen = Heating(temperature_c=233.0, target_c=235.0, power=127.0)
    usual = {"time_s": 206.0, "heater": "hotend", "seen": seen, "doing": "test"}
    return Status(**{**usual, "cycles": 8, "left_s": 19.0, **changes})


def test_the_live_view_shows_reading_target_power_and_time_left():
    told = headline(status(), 127.0)
    for words in ("233.0 °C of 235 °C", "power 100%", "cycle 8", "3:26, 0:19 left"):
        assert words in told
    silent = Heating(temperature_c=233.0)
    assert "power" not in headline(status(seen=silent, cycles=None, left_s=None), 0.0)


def test_the_live_view_fits_its_terminal_and_comes_near_the_target():
    past = [(float(t), min(20 + 2.0 * t, 236.0), 235.0, 127.0) for t in range(200)]
    for width, height in ((80, 24), (40, 12), (200, 60)):
        lines = drawn(past, status(), width, height).plain.split("\n")
        assert max(map(len, lines)) <= width and len(lines) <= max(height, 14)
        labels = [line.split(" °C")[0] for line in lines if " °C" in line[:9] and line[0] == " "]
        assert len(labels) >= 2 and all(float(one) == int(one) for one in labels)
        with_goal = [line for line in lines if line.endswith(" 235")]
        assert with_goal and all("°C" not in line[:9] or "235" in line[:9] for line in with_goal)
    assert near_target(past[:50]) == past[:50]
    assert near_target(past)[0][1] > 229
    over = [*past, (200.0, 235.0, 0.0, 0.0)]  # the test is over: its target is 0 again
    assert near_target(over)[0][1] > 229
