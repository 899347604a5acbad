"""The conversation with the bench (docs/link-protocol.md)."""

import base64
import hashlib
import hmac
import http.client
import json
import re
import time
import urllib.error
import urllib.parse
import urllib.request
import zlib

from .base import Away, Gone, Refused
from .orders import NEEDED, clearance, writes_sum
from .settings import PROTOCOL, RETRY_SECONDS, VERSION
from .trust import connection, handlers, reachable
from .words import number, readable, reason_of


class NoDetour(urllib.request.HTTPRedirectHandler):
    """The secret goes to the bench that was named, and nowhere that something there points to."""

    def redirect_request(self, *arguments):
        return None


OPENER = urllib.request.build_opener(NoDetour, *handlers())
MOST_ANSWER = 4 << 20


class Link:
    """The conversation with the bench (docs/link-protocol.md): JSON over HTTP, the ticket's secret as bearer."""

    def __init__(self, server, secret, say):
        self.server, self.secret, self.say = reachable(server.rstrip("/")), secret, say
        self.session = ""
        self.away_since = None
        self.told = ""

    def call(self, method, path, body=None, patient=True):
        """One request; waits for a bench that is away as long as it takes. Not `patient`: raises Away instead, at once
        where it did not answer a moment ago."""
        if not patient and self.away_since is not None and time.monotonic() - self.away_since < RETRY_SECONDS:
            raise Away()
        while True:
            request = urllib.request.Request(self.server + "/api/link" + path, method=method)
            request.add_header("Authorization", "Bearer " + self.secret)
            raw = None
            if body is not None:
                raw = json.dumps(body).encode()
                request.add_header("Content-Type", "application/json")
            try:
                with OPENER.open(request, raw, timeout=20) as answer:
                    said = json.loads(answer.read(MOST_ANSWER) or b"{}")
                if not isinstance(said, dict):
                    raise ValueError("no object")
                if self.away_since is not None:
                    self.say("Connected to the bench again.")
                self.away_since, self.told = None, ""
                return said
            except urllib.error.HTTPError as error:
                detail = self._detail(error)
                if error.code in (401, 404, 410):
                    raise Gone(detail) from None
                if error.code < 500:
                    raise Refused(detail) from None
                why = "it says %s" % detail
            except (OSError, ValueError, RecursionError, http.client.HTTPException) as error:
                why = reason_of(error)
            self.away_since = time.monotonic()
            if why != self.told:
                self.say(
                    "The bench at %s does not answer: %s. Readings are kept here and sent later." % (self.server, why)
                )
                self.told = why
            if not patient:
                raise Away()
            time.sleep(RETRY_SECONDS)

    @staticmethod
    def _detail(error):
        try:
            return readable(json.loads(error.read(MOST_ANSWER)).get("detail", error.reason))
        except Exception:
            return readable(error.reason)

    def hello(self, facts, session, has):
        answer = self.call(
            "POST", "/hello", {"protocol": PROTOCOL, "probe": VERSION, "machine": facts, "session": session, "has": has}
        )
        given = answer.get("session")
        self.session = given if isinstance(given, str) and re.match(r"[0-9a-f]{8,64}$", given) else session
        return answer

    def send(self, line, data, patient=True):
        """Push one page; the bench acknowledges pages in order and says where it stands where this is not the next
        one."""
        body = dict(line, session=self.session, data=base64.b64encode(data).decode())
        return number(self.call("POST", "/pages", body, patient).get("acknowledged"), 0, 1 << 40)

    def put_copy(self, box, order, at, length, parts, keeps=True):
        """A piece of a copy, in parts; None: zeros. `keeps`: the bench keeps its sum beside it. Waits for a bench that
        is away as long as it takes. Raises Gone, Refused."""
        what = "zeros=%d" % length
        if parts is not None:
            crc, told = 0, hashlib.blake2b(digest_size=32)
            for part in parts:
                crc = zlib.crc32(part, crc)
                if keeps:
                    told.update(part)
            what = "crc=%d" % crc + ("&blake2=" + told.hexdigest() if keeps else "")
        self._steadily(
            box,
            "PUT",
            "/copy?session=%s&order=%s&at=%d&%s" % (self.session, order, at, what),
            parts or [],
            0,
            length if parts else 0,
        )

    def get_copy(self, box, order, at, length):
        """(bytes of a copy that the bench keeps, None) or (None, how many bytes from there are zeros). Raises Gone,
        Refused."""
        while True:
            answer, data = self._steadily(
                box,
                "GET",
                "/image?session=%s&order=%s&at=%d&length=%d" % (self.session, order, at, length),
                None,
                length,
            )
            zeros = answer.getheader("X-Zeros") or ""
            if zeros.isdigit() and int(zeros) > 0:
                return None, int(zeros)
            if len(data) == length and hashlib.sha256(data).hexdigest() == answer.getheader("X-Sha256"):
                return data, None
            time.sleep(RETRY_SECONDS)  # cut on the way

    def _steadily(self, box, method, path, data, most=0, size=None):
        """A request over one connection that is kept in `box.connection`; returns the answer and its body."""
        place = urllib.parse.urlsplit(self.server)
        path = place.path + "/api/link" + path
        headers = {"Authorization": "Bearer " + self.secret, "Content-Type": "application/octet-stream"}
        if size is not None:  # told beforehand, or parts would go out in chunks
            headers["Content-Length"] = str(size)
        while True:
            try:
                if box.connection is None:
                    box.connection = connection(place.scheme, place.netloc, 60)
                box.connection.request(method, path, data, headers)
                answer = box.connection.getresponse()
                said = answer.read(max(most, MOST_ANSWER))
                if answer.status < 300:
                    return answer, said
                try:
                    detail = readable(json.loads(said).get("detail", answer.reason))
                except ValueError:
                    detail = readable(answer.reason)
                if answer.status in (401, 404, 410):
                    raise Gone(detail)
                if answer.status < 500:
                    raise Refused(detail)
            except (OSError, http.client.HTTPException):
                pass
            if box.connection is not None:
                box.connection.close()
                box.connection = None
            time.sleep(RETRY_SECONDS)

    def cleared(self, order):
        """Does the order carry the clearance it needs, made out for just this order with the ticket's secret?"""
        needed = NEEDED.get(order.get("order", ""), "")
        mark = (order.get("clearances") or {}).get(needed, "")
        what = "write:" + writes_sum(order["writes"]) if order.get("order") in ("mend", "entry") else needed
        if order.get("order") == "fill":  # good for just this copy on just this drive
            what = "write:%s:%d:%s" % (order["copy"], order["size"], order["disk"])
        wanted = clearance(
            self.secret, order.get("id"), order.get("order"), order.get("drive") or order.get("device") or "", what
        )
        return bool(needed) and hmac.compare_digest(mark, wanted)

    def may_read_sectors(self, order):
        mark = (order.get("clearances") or {}).get("sectors", "")
        return hmac.compare_digest(
            mark,
            clearance(
                self.secret,
                order.get("id"),
                order.get("order"),
                order.get("drive") or order.get("device") or "",
                "sectors",
            ),
        )
