"""Errors of the domain as HTTP: one map, one shape (RFC 9457), and nothing is caught broadly anywhere else."""

from __future__ import annotations

import logging

from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse, Response
from starlette.exceptions import HTTPException

from gatecheck.core.errors import GateCheckError, InputError, TapeError
from gatecheck.server.wire import Problem
from gatecheck.store import StoreError

_log = logging.getLogger(__name__)


class NotFoundError(GateCheckError):
    """Nothing there by that number."""


class LinkUnknownError(GateCheckError):
    """No ticket has this secret."""


class LinkEndedError(GateCheckError):
    """The link was ended, or its ticket handed over."""


class PairingError(GateCheckError):
    """A code that lets nobody in: wrong, used, or too late."""


class TooManyError(GateCheckError):
    """Tried too often, or too many at once."""


_STATUS: tuple[tuple[type[GateCheckError], int, str], ...] = (
    (NotFoundError, 404, "Not found"),
    (LinkUnknownError, 401, "Not a link of this bench"),
    (LinkEndedError, 410, "The link is over"),
    (PairingError, 403, "Not let in"),
    (TooManyError, 429, "Too many"),
    (TapeError, 422, "Entry not usable"),
    (InputError, 422, "File not usable"),
    (StoreError, 409, "Not possible now"),
    (GateCheckError, 400, "Not usable"),
)


_SECRET = {"key", "file", "pin", "secret", "passphrase"}
"""fields of a request that no answer repeats"""


def problem(status: int, title: str, detail: str, needs: str | None = None) -> JSONResponse:
    """Problem details. `needs`: an extension member (RFC 9457, 3.2): what lets the same request through."""
    body = Problem(title=title, status=status, detail=detail, needs=needs).model_dump(exclude_none=True)
    return JSONResponse(body, status_code=status, media_type="application/problem+json")


def map_errors(app: FastAPI) -> None:
    """Every error of the application answers as problem details."""

    async def bench_error(request: Request, error: Exception) -> Response:
        status, title = next((s, t) for cls, s, t in _STATUS if isinstance(error, cls))
        return problem(status, title, str(error))

    async def invalid(request: Request, error: Exception) -> Response:
        assert isinstance(error, RequestValidationError)
        first = error.errors()[0]
        where = ".".join(str(part) for part in first["loc"])
        got = "" if _SECRET & set(first["loc"]) else f", got {str(first.get('input'))[:80]!r}"
        return problem(422, "Request not usable", f"{where}: {first['msg']}{got}")

    async def http(request: Request, error: Exception) -> Response:
        assert isinstance(error, HTTPException)
        return problem(error.status_code, "Not possible", str(error.detail))

    async def unexpected(request: Request, error: Exception) -> Response:
        _log.error("%s %s failed", request.method, request.url.path, exc_info=error)
        return problem(
            500, "The server failed", f"{type(error).__name__}: nothing of this request was saved; the log is unchanged"
        )

    app.add_exception_handler(Exception, unexpected)
    app.add_exception_handler(GateCheckError, bench_error)
    app.add_exception_handler(RequestValidationError, invalid)
    app.add_exception_handler(HTTPException, http)
