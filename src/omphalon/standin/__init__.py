"""A simulated printer: equations of its own, richer than what physics/ fits, so that no fit
grades itself.
"""

# fault → what it is
FAULTS = {
    "dropout": "it hears, and says nothing any more",
    "restart": "it restarts, and what was not stored is lost",
    "noise": "bytes are changed on their way, both ways",
    "lost-lines": "one line in ten is lost for good, both ways",
    "stuck-sensor": "the hotend's reading stands still",
    "nan": "the hotend reads nan",
    "unreported": "its reports leave the hotend out",
    "busy": "at work it says only that it is busy, and reports nothing",
    "power-untold": "its reports leave the power out",
    "power-scale": "its power never passes 200 of 255",
    "refuse": "it takes no settings",
    "test-refused": "it refuses to test a heater",
    "test-ignored": "it acknowledges the test of a heater, and does nothing",
    "test-endless": "its test never ends",
    "checks-early": "line numbers are checked as they come, also while a command is at work",
    "deaf": "what would end a wait or halt it is read only in its turn",
    "off-ignored": "it acknowledges a target of 0, and heats on",
    "second-hotend": "somebody heats a second hotend",
    "panel": "somebody sets the hotend's target to 0 at its panel",
    "panel-target": "somebody sets the hotend's target to 290 °C at its panel",
    "stuck-on": "the hotend's output is stuck fully on, whatever is reported",
    "bed-stuck-on": "the bed's output is stuck fully on, whatever is reported",
    "noisy": "its readings scatter by 0.7 °C",
    "no-bed": "it has no bed, and reports none",
    "codes": "it reads hex numbers, knows macros, and further codes that heat",
    "trip": "it trips: an error, and the hotend is off",
    "garbage": "what it says is no text",
    "half-line": "a report is cut in its middle",
    "replug": "the link is cut, and there again after five seconds",
    "unplug": "the link is cut for good",
}
