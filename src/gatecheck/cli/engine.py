"""Commands that reason: a case, the vocabulary, rehearsals."""

from __future__ import annotations

import argparse
import json
import sys
from datetime import UTC, datetime
from pathlib import Path

from gatecheck.cli.output import print_json
from gatecheck.core.errors import GateCheckError, InputError


def triage(arguments: argparse.Namespace) -> int:
    from gatecheck.adapters.compile_cache import use_mmap
    from gatecheck.adapters.shipped_tables import shipped_model, shipped_words
    from gatecheck.core.decide.report import triage as reasoned

    use_mmap()
    cases = [(name, _load_case(name)) for name in arguments.cases]
    model = shipped_model()
    for name, case in cases:
        try:
            document = reasoned(model, shipped_words(), case, as_of_year=datetime.now(UTC).year)
        except GateCheckError as error:
            raise InputError(f"{name}: {error}") from error
        print_json(document)
    return 0


def _load_case(name: str) -> object:
    try:
        text = sys.stdin.read() if name == "-" else Path(name).read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError) as error:
        reason = error.strerror if isinstance(error, OSError) else "no UTF-8 text"
        raise InputError(f"{name}: expected a JSON file, got {reason}") from error
    try:
        case: object = json.loads(text)
    except (json.JSONDecodeError, RecursionError) as error:
        raise InputError(f"{name}: expected JSON, got {error}") from error
    return case


def vocabulary(arguments: argparse.Namespace) -> int:
    from gatecheck.adapters.shipped_tables import shipped_model
    from gatecheck.core.decide.report import vocabulary as ids

    print_json(ids(shipped_model().knowledge))
    return 0


def rehearse(arguments: argparse.Namespace) -> int:
    from gatecheck.cli.rehearse import rehearse as rehearsed

    if arguments.report:
        from gatecheck.cli.rehearsal_report import write_report

        print(write_report(arguments.report, machines=arguments.machines, seed=arguments.seed, jobs=arguments.jobs))
        return 0
    if arguments.as_case and arguments.wrong is None:
        raise InputError("--as-case: expected --wrong N beside it, got none")
    if arguments.wrong is not None:
        return _wrong_call(arguments)
    document = rehearsed(
        machines=arguments.machines,
        seed=arguments.seed,
        world=arguments.world,
        policies=arguments.policy,
        jobs=arguments.jobs,
        jitter=arguments.jitter,
        cluster=arguments.cluster,
    )
    if arguments.json:
        print_json(document)
    else:
        print(document["table"])
    return 0


def _wrong_call(arguments: argparse.Namespace) -> int:
    """One wrong call of the planner (or of the policy that is named), as a case for `triage` or step by step."""
    from gatecheck.cli.rehearse import case_of, rehearse_runs, told, wrong_call

    if len(arguments.policy or ()) > 1:
        raise InputError(f"--wrong: expected one --policy, got {len(arguments.policy)}")
    policy = (arguments.policy or ["planner"])[0]
    runs = rehearse_runs(
        machines=arguments.machines,
        seed=arguments.seed,
        world=arguments.world,
        policies=[policy],
        jobs=arguments.jobs,
        jitter=arguments.jitter,
        cluster=arguments.cluster,
    )[policy]
    run = wrong_call(runs, arguments.wrong)
    if arguments.as_case:
        print_json(case_of(run))
    else:
        print(told(run))
    return 0
