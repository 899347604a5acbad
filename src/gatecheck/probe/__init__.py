"""Gate Check probe: reads a machine that will not start, from a live Linux, as root. Nothing but Python 3.8+.

It reads. It starts a drive's self-test, or reads its whole surface, if the bench orders that with the clearance for it.
It writes to a drive in one case only: when the bench orders just these bytes, or a whole copy, with a clearance for it,
onto the drive that was confirmed, that nothing uses, after reading that what is to go still stands there.

    sudo python3 gatecheck_probe.pyz --out /media/stick/machine.gcap          no network: everything into one file
    sudo python3 gatecheck_probe.pyz --server http://BENCH:8765 --secret S    linked to a ticket; the bench shows how

Every page goes to a folder on this machine first (--spool), so a killed probe that is started again goes on where it
was. A page that fails is a recorded fact. A drive that hangs hangs a child of this program, never the program itself.

The modules ship as one file, a zip that Python runs (`gatecheck.adapters.probe_script`). They import nothing of ours
but each other.
"""
