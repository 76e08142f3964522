"""The process that matches: one request a line, one answer a line, until its input ends.

Started as ``python -m gelassen.system.matcher``. A request is ``[pattern, text]`` in JSON. The answer is
a text or null. The process writes one line more, before all answers, once it is ready.
"""

import json
import re
import sys

from gelassen.system.processes import announce_ready


def main() -> None:
    """Answer until the parent is gone."""
    announce_ready()
    for line in sys.stdin:
        pattern, text = json.loads(line)
        match = re.search(pattern, text)
        found = None if match is None else match[1] if match.re.groups else match[0]
        sys.stdout.write(json.dumps(found) + "\n")
        sys.stdout.flush()


if __name__ == "__main__":
    main()
