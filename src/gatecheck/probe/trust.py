"""Whom the probe talks to: a bench whose certificate the shop's own authority has signed, and nobody else."""

import http.client
import urllib.request

from .address import AUTHORITY

_NO_TIMES = 0x200000  # X509_V_FLAG_NO_CHECK_TIME: the clock of a sick machine is often years off


def context():
    """What encrypts; None where the bench named no authority, or this live system's Python has no TLS."""
    if not AUTHORITY:
        return None
    try:
        import ssl
    except ImportError:
        return None
    own = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
    own.check_hostname = (
        False  # the authority signs for its one bench only, and the bench may have another address here
    )
    own.verify_mode = ssl.CERT_REQUIRED
    own.load_verify_locations(cadata=AUTHORITY)
    own.verify_flags |= _NO_TIMES
    return own


CONTEXT = context()


def reachable(server):
    """The bench's address as it can be asked from here: without encryption where this live system has none."""
    if server.startswith("https://") and AUTHORITY and CONTEXT is None:
        return "http://" + server[len("https://") :]
    return server


def handlers():
    """For an opener of URLs."""
    return [urllib.request.HTTPSHandler(context=CONTEXT)] if CONTEXT is not None else []


def connection(scheme, place, timeout):
    """A connection to the bench."""
    if scheme != "https":
        return http.client.HTTPConnection(place, timeout=timeout)
    return http.client.HTTPSConnection(place, timeout=timeout, context=CONTEXT)
