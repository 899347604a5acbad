"""Handing the probe out: a code that is typed on the sick machine is exchanged for its link's secret, once."""

from __future__ import annotations

import hmac

from gatecheck.adapters.probe_script import probe_archive, start_line
from gatecheck.server.errors import LinkEndedError, LinkUnknownError, TooManyError
from gatecheck.server.link.sessions import Sessions, new_code
from gatecheck.server.people.throttle import Throttle
from gatecheck.server.shop import Shop
from gatecheck.server.tickets.service import Tickets
from gatecheck.store import links
from gatecheck.store.links import Link

_LONGEST_CODE = 20


class StartCodes:
    """Codes and what they open, over a shop's links. Who types wrong ones too often waits."""

    def __init__(self, shop: Shop, at_work: Tickets, sessions: Sessions) -> None:
        self.shop, self.tickets, self.sessions = shop, at_work, sessions
        self._throttle = Throttle(10, 60.0)

    def _of_code(self, code: str, source: str) -> Link:
        """The link that has this code, or this secret. Raises LinkUnknownError, LinkEndedError, TooManyError."""
        if not self._throttle.is_open(source):
            raise TooManyError("code: expected a pause after so many wrong ones, got another; wait a minute")
        if len(code) > _LONGEST_CODE:
            return self.sessions.link_with(code)
        said = code.strip().lower().encode()
        with self.shop.database.read() as connection:
            known = links.links_with_codes(connection)
        found = [link for link in known if hmac.compare_digest((link.code or "").encode(), said)]
        if not found:
            self._throttle.wrong(source)
            raise LinkUnknownError(
                "code: expected the one on the ticket's link sheet, got another, or one that was used"
            )
        if found[0].ended_at or self.tickets.row_of(found[0].ticket_id).closed_at:
            raise LinkEndedError("link: expected one that is open, got one that was ended")
        return found[0]

    def secret_for(self, code: str, source: str) -> str:
        """The secret of the link whose code this is; the code is good no more after that. Raises LinkUnknownError,
        LinkEndedError, TooManyError."""
        link = self._of_code(code, source)
        if len(code) <= _LONGEST_CODE:
            with self.shop.database.write() as connection:
                links.set_code(connection, link.ticket_id, new_code())
            self.sessions.notify(link.ticket_id, at_once=True)
        return link.secret

    def probe_for(self, code: str, base_url: str, source: str) -> bytes:
        """The probe with the server's address and the link's secret filled in, for its code, which is good no more
        after that. Raises LinkUnknownError, LinkEndedError, TooManyError."""
        return probe_archive(plain(base_url), self.secret_for(code, source))

    def start_for(self, secret: str, base_url: str, source: str) -> str:
        """The script that fetches that probe; one that says why, where the code does not lead to it: a refusal that
        only a program reads helps nobody who stands in front of the machine."""
        try:
            self._of_code(secret, source)
        except TooManyError:
            return start_line(
                base_url,
                "",
                "too many wrong codes were tried. Wait a minute, then type the line that the ticket shows.",
            )
        except LinkUnknownError:
            return start_line(
                base_url,
                "",
                (
                    f"the bench knows no code {secret[:20]}, or it was used. The link sheet on the ticket shows the "
                    f"line "
                    f"that is good now."
                ),
            )
        except LinkEndedError:
            return start_line(
                base_url,
                "",
                "this link was ended on the bench. Open it again on the ticket and type the line that it shows.",
            )
        return start_line(plain(base_url), secret)


def plain(base_url: str) -> str:
    """Live systems fetch without encryption: they do not know the bench's authority, and the same port answers both."""
    return base_url.replace("https://", "http://", 1)


def start_lines(base_url: str, secret: str) -> list[str]:
    """The line to type on the sick machine, for each program that may be there to fetch with; none hides what went
    wrong."""
    address = f"{plain(base_url).rstrip('/')}/s/{secret}"
    return [f"curl -fsS {address} | sh", f"wget -O- {address} | sh", f"busybox wget -O- {address} | sh"]
