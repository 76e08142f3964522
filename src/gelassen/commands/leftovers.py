"""Settings left changed by a run that was cut off: reported at each start, put back on request."""

import sys

import click

from gelassen.commands.shared.common import FAILED, say


def settings_left_behind(*, put_back: bool) -> None:
    """Report settings left behind, and put them back on request or if the user agrees."""
    from gelassen.bench.actuators.undo_notes import left_behind, put_back_note, spoilt_notes
    from gelassen.bench.sensors.identity import text_of

    for note, why in spoilt_notes():
        say(
            f"the note of settings {note} is not used: {why}. Compare what it says with the machine, "
            "put it right by hand, and delete the note"
        )
    found = list(left_behind())
    if not found and put_back:
        say("no settings were left behind")
    for note, entries in found:
        say("an earlier run was cut off and left settings changed:")
        for entry in entries:
            file = entry.file()
            now = text_of(file) if file else "gone"
            say(f"  {entry.setting}: {file} was {entry.text}, is {now}")
        agreed = put_back
        if not agreed and sys.stdin.isatty() and sys.stderr.isatty():
            agreed = click.confirm("Put them back now?", default=True, err=True)
        if not agreed:
            say("put them back with: gelassen --put-back")
            continue
        problems = put_back_note(note)
        for problem in problems:
            say(problem)
        if problems:
            say("run as the user who made the settings, as a rule with sudo")
            sys.exit(FAILED)
        say("they are put back")
