"""What a screen reader hears of the picker: a line for each thing that gets the keyboard, and for each text that changes.

focus ROLE | NAME
says TEXT
"""

import sys

import pyatspi


def of_picker(accessible):
    try:
        return "Picker" in (accessible.getApplication().name or "")
    except Exception:
        return False


def told(event):
    try:
        if event.type.startswith("object:state-changed:focused"):
            if event.detail1 == 1 and of_picker(event.source):
                print("focus", event.source.getRoleName(), "|", event.source.name, flush=True)
        elif of_picker(event.source) and event.source.name:
            print("says", event.source.name, flush=True)
    except Exception as error:
        print("error", error, file=sys.stderr, flush=True)


pyatspi.Registry.registerEventListener(
    told,
    "object:state-changed:focused",
    "object:property-change:accessible-name",
)
print("listening", flush=True)
pyatspi.Registry.start()
