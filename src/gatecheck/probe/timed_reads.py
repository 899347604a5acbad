"""Work that takes long: paused and stopped from the bench, and gone on with without it."""

from .ata import log_words, smart_data_job
from .base import Refused, geometry
from .drive_pages import disk_here
from .fetching import Fetching
from .nvme import nvme_page
from .page_reading import PageReading
from .surface_scan import SurfaceScan
from .worker import Worker


class TimedReads(PageReading):
    """Work that takes long: paused and stopped from the bench, and gone on with without it."""

    def fetch(self, order, device):
        """Sectors of a volume as the bench asks for them turn by turn, for a look at it or for files on it. They go as
        they are read and are kept by the bench alone; what does not read at once is told, and asked for again with care
        when all else is there. Returns (result, detail)."""
        disk, number_ = disk_here(order["disk"], device), order["id"]
        block = next((b for b in self.machine.blocks() if b.name == disk), None)
        if block is None:
            raise Refused("expected a disk %s, got none by that name" % disk)
        size, total = geometry(block)
        title = ("Recovering files from %s" if order["order"] == "rescue" else "Checking the file system on %s") % disk

        def asked(done, of):
            return self.asked(number_, min(done, max(of, 1)), max(of, 1), title, None, "bytes")

        fetching = Fetching(
            self.link,
            number_,
            Worker(self.machine, disk, size, (1 << 20) // size, self.reader.seconds, keep=True),
            total or 0,
            asked,
        )
        try:
            return fetching.run()
        finally:
            fetching.end()

    def heat(self, device):
        """Degrees Celsius that the drive tells; None where it tells none."""
        if device.startswith("nvme"):
            status, _, data = self.reader.run(
                lambda: nvme_page(self.machine, device, 0x02, 0xFFFFFFFF, [log_words(0x02, 512)], 512)
            )
            kelvin = data[1] | data[2] << 8 if status == "ok" and len(data) == 512 else 0
            return kelvin - 273 if 220 <= kelvin <= 420 else None
        if not self.spool.newest(device + "/smart-data.bin"):
            # a drive that has not shown this page is not asked for it: it would keep the refusal in its log for good
            return None
        status, _, data = self.reader.run(smart_data_job(self.machine, device).call)
        for at in range(2, 362, 12) if status == "ok" and len(data) == 512 else ():
            if data[at] in (190, 194):
                return data[at + 5] if 5 <= data[at + 5] <= 110 else None
        return None

    def timed_read(self, order, device, copies=False):
        """Read the whole drive, or a span, block by block with its time, and keep the map: what is known of it already
        is not read again. `copies`: what was read goes to the bench as well. Returns (result, detail)."""
        return SurfaceScan(self, order, device, copies).run()
