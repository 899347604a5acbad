"""A drive's own self-test."""

import os

from .ata import smart_data_job
from .base import Refused
from .commands import NON_DATA, ata_command_16, sense_of
from .nvme import nvme_page, self_test_log_job
from .page_reading import PageReading

SILENT_LOOKS = 10  # in a row, two seconds apart: then the drive's logs are read as they are


class SelfTests(PageReading):
    """A drive's own self-test."""

    def self_test(self, order, device, kind):
        """Start the drive's own test, or join the one that is running; watch it; read its logs again. The drive goes on
        without this program: started again, it only looks how the test ended. Returns (result, detail)."""
        is_nvme = device.startswith("nvme")
        mark = os.path.join(self.spool.folder, "started-%s" % order)
        left = (self._test_state(device, is_nvme, kind) or (None,))[0]
        title = "Self-test (%s) on %s" % (kind, device)
        if kind == "conveyance" and not self._offers_conveyance(device, is_nvme):
            raise Refused("expected a drive that offers this test, got one that does not")
        if left is None and not os.path.exists(mark):
            self._command(device, is_nvme, {"short": 1, "long": 2, "conveyance": 3}[kind])
        elif left is not None and not os.path.exists(mark):
            title = "The test that was running on %s" % device
        with open(mark, "w"):
            pass
        stopped, ending, silent = "", "", 0
        while silent < SILENT_LOOKS:
            state = self._test_state(device, is_nvme, kind)
            if state is None:  # a busy drive answers late: that is not the end of its test
                silent += 1
                self.machine.sleep(2)
                continue
            silent = 0
            left, minutes, ending = state
            if left is None:
                break
            wanted = self.asked(order, 100 - left, 100, title, minutes and round(minutes * left / 100, 1))
            if wanted:  # a test has no pause
                self._command(device, is_nvme, 0xF if is_nvme else 0x7F)
                stopped = "Stopped from the bench"
            self.machine.sleep(2)
        self.read(order, sectors=False, device=device)
        return "done", stopped or ending

    def _offers_conveyance(self, device, is_nvme):
        """SMART data, byte 367, bit 5 (ACS-4, table 143)."""
        status, _, data = ("", "", b"") if is_nvme else self.reader.run(smart_data_job(self.machine, device).call)
        return status == "ok" and len(data) == 512 and bool(data[367] & 0x20)

    def _command(self, device, is_nvme, code):
        """Start a test, or abort it. Raises Refused."""

        def call():
            if is_nvme:
                status = self.machine.nvme(device, 0x14, 0xFFFFFFFF, [code], 0)[0]
                if status:
                    raise Refused("NVMe status %04Xh" % status)
                return b""
            status, sense, _ = self.machine.scsi(device, ata_command_16(NON_DATA, 0xB0, 0xD4, 0, 0xC24F00 | code), 0)
            if sense_of(sense)[0] not in (0, 1):
                raise Refused("sense %X/%02X/%02X" % sense_of(sense))
            return b""

        status, detail, _ = self.reader.run(call)
        if status != "ok":
            raise Refused(detail)

    def _test_state(self, device, is_nvme, kind):
        """(percent still to run or None when none is running, minutes that the drive says such a test takes or None,
        how the last one ended in words); None where the drive does not say. ACS-4 table 145, NVM Express 1.4 figure
        199."""
        job = self_test_log_job(self.machine, device) if is_nvme else smart_data_job(self.machine, device)
        status, _, data = self.reader.run(job.call)
        if status != "ok" or len(data) < 376:
            return None
        if is_nvme:
            ended = (
                ""
                if data[4] & 0xF == 0xF
                else {
                    1: "Aborted by a command",
                    2: "Interrupted by a reset of the controller",
                    4: "Aborted by a format",
                }.get(data[4] & 0xF, "")
            )
            return ((100 - (data[1] & 0x7F)) if data[0] & 0xF else None), self._nvme_minutes(device, kind), ended
        minutes = {"short": data[372], "conveyance": data[374]}.get(kind) or (
            data[373] if data[373] != 0xFF else data[375] | data[376] << 8
        )
        ended = {1: "Aborted by a command", 2: "Interrupted by a reset"}.get(data[363] >> 4, "")
        return ((data[363] & 0xF) * 10 if data[363] >> 4 == 0xF else None), minutes or None, ended

    def _nvme_minutes(self, device, kind):
        """Identify Controller, bytes 316 and 317: an extended test's time; a short one takes two minutes at most."""
        if kind == "short":
            return 2
        if device not in self.minutes:
            status, _, data = self.reader.run(lambda: nvme_page(self.machine, device, 0x06, 0, [1], 4096))
            self.minutes[device] = data[316] | data[317] << 8 if status == "ok" and len(data) == 4096 else 0
        return self.minutes[device] or None
