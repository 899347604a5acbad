"""What the judges of pages weigh by: limits of counts, ages and temperatures, and the soft evidence of each
situation."""

from __future__ import annotations

from collections.abc import Mapping

from msgspec import Struct

from gatecheck.core.knowledge.toml_table import Table

KINDS = ("physical", "connection", "wear", "age", "heat", "reading", "firmware")
LIMITS = (
    "old_hours",
    "hot_disk",
    "hot_flash",
    "few_crc",
    "worn_below",
    "nvme_worn",
    "nvme_wearing",
    "nvme_media_failing",
    "recent_hours",
    "fresh_test_hours",
    "many_media_logged",
    "fast_per_1000_h",
    "damaged_page_share",
    "oldest_clock",
    "slow_ready",
    "never_ready",
)
SITUATIONS: Mapping[str, tuple[str, ...]] = {
    "health-pages": (
        "worn-out",
        "failing-one",
        "failing-more",
        "link-only",
        "link-and-signs",
        "signs",
        "clean",
        "unreadable",
    ),
    "error-log": ("empty", "recent", "old", "undated"),
    "self-test": ("outcome", "other"),
    "entry-target": ("present", "stale", "none"),
    "disk-layout": ("start-unreadable", "sound", "table-damaged", "no-boot-record", "mode-mismatch", "blank"),
    "loader-look": ("sound", "missing", "damaged", "walked-sound", "walked-missing", "walked-damaged"),
    "volume-look": ("clean", "dirty", "damaged", "locked", "unreadable"),
}
"""check -> the situations that its pages tell apart"""


class CountLimit(Struct, frozen=True):
    """From how many counts on a reading is a sign, and from how many it says that the drive is failing (None:
    never)."""

    finding: str
    kind: str
    sign: int
    failing: int | None


class Findings(Struct, frozen=True):
    """`counts`: by SMART attribute number; `statistics`: by the name of a device statistic; `weights`: check ->
    situation -> weights over the check's outcomes ("self-test" holds the share of the outcome shown and of each other
    one)."""

    counts: Mapping[int, CountLimit]
    statistics: Mapping[str, CountLimit]
    limits: Mapping[str, float]
    weights: Mapping[str, Mapping[str, Mapping[str, float]]]


def load_findings(file: Table, outcomes: Mapping[str, tuple[str, ...]]) -> Findings:
    """Check and read findings.toml. Raises KnowledgeError."""
    file.only("counts", "statistics", "limits", "weights")
    counts = file.sub("counts")
    for number in counts.values:
        if not number.isdigit() or not 0 < int(number) < 256:
            raise counts.error(number, "the number of a SMART attribute, 1 to 255", repr(number))
    limits = file.sub("limits")
    limits.only("source", *LIMITS)
    return Findings(
        {int(number): _limit(counts.sub(number)) for number in counts.values},
        {name: _limit(file.sub("statistics").sub(name)) for name in file.sub("statistics").values},
        {name: limits.number(name) for name in LIMITS},
        {check: _weights(file.sub("weights").sub(check), check, outcomes) for check in SITUATIONS},
    )


def _limit(own: Table) -> CountLimit:
    own.only("finding", "kind", "sign", "failing", "source")
    own.string("source")
    failing = own.number("failing") if "failing" in own.values else None
    return CountLimit(
        own.string("finding"),
        own.one_of("kind", KINDS),
        int(own.number("sign")),
        None if failing is None else int(failing),
    )


def _weights(own: Table, check: str, outcomes: Mapping[str, tuple[str, ...]]) -> dict[str, Mapping[str, float]]:
    own.only("source", *SITUATIONS[check])
    if (
        check == "self-test"
    ):  # how surely a fresh entry of its log is the check's outcome, and what is left for each other one
        return {name: {"share": own.sub(name).number("share", high=1.0)} for name in SITUATIONS[check]}
    return {name: own.distribution(name, outcomes[check]) for name in SITUATIONS[check]}
