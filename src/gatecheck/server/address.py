"""Where the server is found."""

from __future__ import annotations


def own_address(host: str, port: int) -> str:
    """Where this very computer finds the server."""
    return f"http://{'127.0.0.1' if host in ('0.0.0.0', '::', '') else f'[{host}]' if ':' in host else host}:{port}"
