"""The server, and the shop's own data: backup, restore, export, import."""

from __future__ import annotations

import argparse


def keep(arguments: argparse.Namespace) -> int:
    from gatecheck.adapters.shipped_tables import shipped_model
    from gatecheck.store import keeping

    if arguments.command == "backup":
        kept = keeping.backup(arguments.data, arguments.file)
        print(f"{arguments.file}: {kept.tickets} tickets, {kept.files} files, {kept.bytes / 1e6:.1f} MB; verified")
    elif arguments.command == "restore" and arguments.rehearse:
        from gatecheck.cli.output import print_json

        print_json(keeping.rehearse_restore(arguments.file, arguments.data))
    elif arguments.command == "restore":
        kept, before = keeping.restore(arguments.file, arguments.data, over=arguments.over)
        print(
            f"{arguments.data}: {kept.tickets} tickets, {kept.files} files"
            + (f"; what was there before is in {before}" if before else "")
        )
    elif arguments.command == "export":
        kept = keeping.export_ticket(arguments.data, arguments.number, arguments.file)
        print(f"{arguments.file}: ticket {arguments.number}, {kept.files} files")
    else:
        print(f"{keeping.import_ticket(arguments.file, arguments.data, shipped_model().knowledge)}: taken in")
    return 0


def go_back(arguments: argparse.Namespace) -> int:
    from gatecheck.cli.output import print_json
    from gatecheck.core.errors import InputError
    from gatecheck.server.start import alone
    from gatecheck.store import keeping

    with alone(arguments.data):
        copy, kept = keeping.go_back(arguments.data, apply=arguments.apply)
    if copy is None:
        raise InputError(f"--data {arguments.data}: expected a copy from before an update, got none")
    print_json(
        {
            "copy": str(copy.path),
            "tickets": copy.tickets,
            "since": {"tickets": copy.tickets_since, "entries": copy.entries_since},
            "applied": kept is not None,
            "kept": str(kept) if kept else None,
        }
    )
    return 0


def serve(arguments: argparse.Namespace) -> int:
    from gatecheck.core.errors import InputError
    from gatecheck.server.start import start
    from gatecheck.server.transport import Transport

    if (arguments.cert is None) is not (arguments.key is None):
        raise InputError("--cert, --key: expected both, got one of them")
    if arguments.http and arguments.cert is not None:
        raise InputError("--http: expected without --cert, got both")
    return start(
        arguments.host,
        arguments.port,
        arguments.data,
        demo=arguments.demo,
        names=tuple(arguments.name),
        transport=Transport(arguments.http, arguments.cert, arguments.key),
        backups=arguments.backups,
    )


def technicians(arguments: argparse.Namespace) -> int:
    from datetime import UTC, datetime

    from gatecheck.cli.output import print_json
    from gatecheck.server.start import alone
    from gatecheck.store import Database, technicians
    from gatecheck.store.keeping import DATABASE

    with alone(arguments.data):
        database = Database(arguments.data / DATABASE)
        try:
            with database.write() as connection:
                found = technicians.technicians(connection)
                for own in found if arguments.forget else ():
                    technicians.leave(connection, own.id, datetime.now(UTC).isoformat())
        finally:
            database.close()
    told = [{"initials": t.initials, "role": t.role, "added_by": t.added_by, "added_at": t.added_at} for t in found]
    print_json({"technicians": told, "forgotten": bool(arguments.forget and found)})
    return 0


def doctor(arguments: argparse.Namespace) -> int:
    """One line for each thing that was looked at; 1 where something is wrong."""
    from datetime import UTC, datetime

    from gatecheck.server.doctor import BAD, DOUBT, Bench, looked_at

    found = looked_at(Bench(arguments.data, arguments.host, arguments.port, arguments.backups, datetime.now(UTC)))
    marks = {BAD: "WRONG ", DOUBT: "look  "}
    for own in found:
        print(f"{marks.get(own.state, 'ok    ')}{own.what}: {own.text}" + (f" - {own.do}" if own.do else ""))
    return 1 if any(own.state == BAD for own in found) else 0
