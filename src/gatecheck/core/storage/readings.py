"""What SMART attribute numbers mean, as far as makers agree, and how far their raw value may be trusted.

`how`: count = a count of events or sectors; hours = power-on hours in the low four bytes; temperature = degrees in the
lowest byte; own = the maker's own. Numbers whose meaning differs between makers carry no name of ours.
Sources: SFF-8035i leaves meanings to makers; the names here are those that T13 proposal e05171 and the makers' own
manuals share. Pinheiro, Weber, Barroso, FAST '07, for which ones tell.
"""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Meaning:
    name: str
    how: str
    kind: str = ""


MEANINGS: dict[int, Meaning] = {
    1: Meaning("read error rate", "own"),
    2: Meaning("throughput", "own"),
    3: Meaning("spin-up time", "own"),
    4: Meaning("starts and stops", "count"),
    5: Meaning("reallocated sectors", "count", "physical"),
    7: Meaning("seek error rate", "own"),
    9: Meaning("power-on time", "hours", "age"),
    10: Meaning("spin retries", "count", "physical"),
    12: Meaning("power cycles", "count"),
    184: Meaning("end-to-end errors", "count", "physical"),
    187: Meaning("reported uncorrectable errors", "count", "physical"),
    188: Meaning("command time-outs", "own"),
    190: Meaning("airflow temperature", "temperature", "heat"),
    194: Meaning("temperature", "temperature", "heat"),
    196: Meaning("reallocation events", "count", "physical"),
    197: Meaning("pending sectors", "count", "physical"),
    198: Meaning("offline uncorrectable sectors", "count", "physical"),
    199: Meaning("interface CRC errors", "count", "connection"),
}
UNKNOWN = Meaning("maker's own", "own")

# flash only: these numbers mean something else, or nothing, on a spinning drive
FLASH_MEANINGS: dict[int, Meaning] = {
    177: Meaning("wear levelling", "normalised", "wear"),
    202: Meaning("life left", "normalised", "wear"),
    231: Meaning("life left", "normalised", "wear"),
    232: Meaning("spare blocks left", "normalised", "wear"),
    233: Meaning("media wear-out", "normalised", "wear"),
    173: Meaning("wear levelling", "normalised", "wear"),
}


def meaning_of(number: int, *, is_flash: bool | None) -> Meaning:
    """Meaning of an attribute number; the flash meanings only where the drive is known not to rotate."""
    if is_flash and number in FLASH_MEANINGS:
        return FLASH_MEANINGS[number]
    return MEANINGS.get(number, UNKNOWN)
