"""What was read is kept on this machine first."""

import hashlib
import json
import os
import zipfile
import zlib

from .settings import FORMAT, VERSION


class Spool:
    """Pages on this machine, in the order they were read. Appending is atomic enough for a power cut: the page's bytes
    are there before its line is."""

    def __init__(self, folder):
        self.folder = folder
        os.makedirs(folder, mode=0o700, exist_ok=True)
        self.lines = []
        place = os.path.join(folder, "pages.jsonl")
        if os.path.exists(place):
            with open(place, encoding="utf-8") as file:
                for text in file:
                    try:
                        self.lines.append(json.loads(text))
                    except ValueError:
                        break  # the last line of a killed probe
        self._place = place
        with open(place, "w", encoding="utf-8") as file:
            file.writelines(json.dumps(line) + "\n" for line in self.lines)

    def add(self, job, order, status, detail, data):
        """Keep one page, or the fact that it could not be read; returns its line."""
        digest = hashlib.sha256(data).hexdigest() if status == "ok" else None
        line = {
            "seq": len(self.lines) + 1,
            "order": order,
            "path": job.path,
            "kind": job.kind,
            "device": job.device,
            "how": job.how,
            "status": status,
            "detail": detail,
            "size": len(data),
            "sha256": digest,
        }
        if digest:
            with open(os.path.join(self.folder, digest), "wb") as file:
                file.write(data)
                file.flush()
                os.fsync(file.fileno())
        with open(self._place, "a", encoding="utf-8") as file:
            file.write(json.dumps(line) + "\n")
            file.flush()
            os.fsync(file.fileno())
        self.lines.append(line)
        return line

    def data(self, line):
        if line["sha256"] is None:
            return b""
        with open(os.path.join(self.folder, line["sha256"]), "rb") as file:
            return file.read()

    def finish(self):
        """What is here was written out whole: the next start is another reading, of its own moment."""
        with open(os.path.join(self.folder, "finished"), "w"):
            pass

    def begin(self):
        """Start anew where the last reading was finished; go on with one that was not."""
        mark = os.path.join(self.folder, "finished")
        if os.path.exists(mark):
            self.lines = []
            os.remove(self._place)
            os.remove(mark)

    def newest(self, path):
        """The bytes last read of a page; empty where there are none."""
        return next((self.data(line) for line in reversed(self.lines) if line["path"] == path), b"")

    def done(self, order):
        """Paths that were read for this order already."""
        return {line["path"] for line in self.lines if line["order"] == order}

    def write_capture(self, place, facts):
        """Everything as one .gcap; a page read more than once is there as read last."""
        newest = {}
        for line in self.lines:
            newest[line["path"]] = line
        pages = [
            {k: line[k] for k in ("path", "kind", "device", "how", "status", "detail", "sha256")}
            for line in newest.values()
        ]
        manifest = {"format": FORMAT, "probe": VERSION, "machine": facts, "pages": pages}
        unfinished = place + ".part"
        with zipfile.ZipFile(unfinished, "w") as archive:
            self._member(archive, "manifest.json", json.dumps(manifest, indent=1).encode())
            for line in newest.values():
                if line["sha256"]:
                    self._member(archive, line["path"], self.data(line))
        with open(unfinished, "rb") as file:  # a stick is pulled soon
            os.fsync(file.fileno())
        os.replace(unfinished, place)

    @staticmethod
    def _member(archive, path, data):
        entry = zipfile.ZipInfo(path)  # of no date: a machine's clock may stand before 1980, where the format has none
        # what packs too well looks like a bomb to whoever opens it
        entry.compress_type = (
            zipfile.ZIP_DEFLATED if len(zlib.compress(data, 1)) * 100 > len(data) else zipfile.ZIP_STORED
        )
        archive.writestr(entry, data)
