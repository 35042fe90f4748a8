"""A printer that is not there: equations of its own, richer than what physics/ fits, so that no fit
grades itself.
"""

# fault → what it is
FAULTS = {
    "dropout": "it hears, and says nothing any more",
    "restart": "it starts anew, and what was not stored is lost",
    "noise": "bytes are changed on their way, both ways",
    "stuck-sensor": "the hotend's reading stands still",
    "refuse": "it takes no settings",
    "garbage": "what it says is no text",
    "half-line": "a report is cut in its middle",
    "unplug": "the link is cut",
}
