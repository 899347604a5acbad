"""FastAPI: routes, events, files. Bound to this machine alone unless told otherwise."""
