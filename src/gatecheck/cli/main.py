"""The command line. Exit status: 0 done, 2 unusable input with one clear line on stderr."""

from __future__ import annotations

import atexit
import gc
import io
import sys
from collections.abc import Sequence

from gatecheck.cli.parsers import parser
from gatecheck.core.errors import GateCheckError


def main(argv: Sequence[str] | None = None) -> int:
    """Run a command. Imports what it needs late, so that `triage` starts fast."""
    for stream in (sys.stdout, sys.stderr):  # what a disk calls its files may be no text that this terminal can write
        if isinstance(stream, io.TextIOWrapper):
            stream.reconfigure(errors="backslashreplace")
    arguments = parser().parse_args(argv)
    atexit.register(gc.freeze)  # nothing is looked through once more for circles when the process ends anyway
    try:
        return int(arguments.run(arguments))
    except GateCheckError as error:
        return _said(arguments.command, str(error))
    except BrokenPipeError:
        sys.stderr.close()
        return 0
    except OSError as error:  # a place that cannot be read or written, and that no command has named in its own words
        place = error.filename if isinstance(error.filename, str) else "file"
        return _said(
            arguments.command,
            f"{place}: expected a place that can be read and written here, got {error.strerror or error}",
        )
    except UnicodeError as error:
        return _said(
            arguments.command, f"expected names and texts that can be written as UTF-8, got {str(error)[:120]}"
        )
    except KeyboardInterrupt:
        return 130


def _said(command: str, text: str) -> int:
    print(f"gatecheck {command}: {text}".replace("\n", " "), file=sys.stderr)
    return 2


if __name__ == "__main__":
    sys.exit(main())
