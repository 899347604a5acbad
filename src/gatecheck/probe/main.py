"""The probe's command line."""

import argparse
import hashlib
import os
import re
import sys
import tempfile

from .address import SECRET, SERVER
from .base import Gone, Refused
from .console import Terminal
from .link import Link
from .machine import Machine
from .probe import Probe
from .reader import Reader
from .settings import CALL_SECONDS
from .spool import Spool


def options(argv):
    parser = argparse.ArgumentParser(
        description="Reads a machine that does not start: drive health, firmware, first sectors."
    )
    parser.add_argument("--server", default=SERVER, help="the bench's address, as the ticket shows it")
    parser.add_argument(
        "--secret",
        default=SECRET or os.environ.get("GATECHECK_SECRET", ""),
        help="the link's secret (better in GATECHECK_SECRET: arguments can be listed by anyone)",
    )
    parser.add_argument("--out", metavar="FILE.gcap", help="write everything into this file, on a stick for example")
    parser.add_argument(
        "--spool", metavar="DIR", help="where pages are kept until they are sent (default: under the temporary folder)"
    )
    parser.add_argument(
        "--no-sectors",
        action="store_true",
        help="leave the first and last sectors alone: nothing is read from the medium",
    )
    parser.add_argument(
        "--wait", type=float, default=CALL_SECONDS, metavar="SECONDS", help="how long one call may take"
    )
    return parser.parse_args(argv)


def main(argv=None, machine=None, say=None):
    """Exit status: 0 done, 2 unusable options or not allowed."""
    chosen = options(argv)
    terminal = Terminal(sys.stdout)
    say, hint = say or terminal.say, None if say else terminal.hint
    if not chosen.server and not chosen.out:
        print("probe: expected --out FILE.gcap or --server with --secret, got neither", file=sys.stderr)
        return 2
    if machine is None and os.geteuid() != 0:
        print(
            "probe: expected to run as root (sudo), got user %d; drives answer nobody else" % os.geteuid(),
            file=sys.stderr,
        )
        return 2
    if chosen.out:
        try:
            with open(chosen.out + ".part", "wb"):
                pass
        except OSError as error:
            print(
                "probe: --out %s: expected a file that can be written, got %s" % (chosen.out, error.strerror),
                file=sys.stderr,
            )
            return 2
    machine = machine or Machine()
    facts = machine.facts()
    name = re.sub(
        r"\W+",
        "-",
        "%s-%s" % (chosen.secret or "offline", facts.get("product_serial", "") or facts.get("product_name", "machine")),
    )
    spool = Spool(chosen.spool or os.path.join(tempfile.gettempdir(), "gatecheck-probe-" + name))
    reader = Reader(chosen.wait)
    unless = " unless the bench orders a repair" if chosen.server else ""
    say(
        "Gate Check reads %s. Nothing is written to any drive%s."
        % (" ".join(filter(None, (facts.get("sys_vendor"), facts.get("product_name")))) or "this machine", unless)
    )
    if not chosen.server:
        spool.begin()
        probe = Probe(machine, spool, None, say, reader, hint)
        probe.read("offline", sectors=not chosen.no_sectors)
        spool.write_capture(chosen.out, facts)
        spool.finish()
        say("Written: %s. Drop this file on the ticket." % chosen.out)
        return 0
    link = Link(chosen.server, chosen.secret, say)
    probe = Probe(machine, spool, link, say, reader, hint)
    session = hashlib.sha256((spool.folder + chosen.secret).encode()).hexdigest()[:16]
    try:
        probe.linked(session)
    except Gone as error:
        if not link.session:
            print(
                "probe: the code %s does not fit: %s. The link's sheet on the ticket shows the right line."
                % (chosen.secret or "(none)", error),
                file=sys.stderr,
            )
            return 2
        say("Connection closed: %s" % error)
    except Refused as error:
        print("probe: the bench refuses this link: %s" % error, file=sys.stderr)
        return 2
    except KeyboardInterrupt:
        say("Stopped. Start it again with the same command to resume.")
    if chosen.out:
        spool.write_capture(chosen.out, facts)
        say("Written: %s" % chosen.out)
    return 0
