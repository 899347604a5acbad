"""What the Volume instrument shows and takes."""

from __future__ import annotations

from typing import Annotated

from pydantic import BaseModel, ConfigDict, Field

By = Annotated[str, Field(max_length=20)]
Source = Annotated[str, Field(pattern=r"^(\w{1,40}|copy-\d{1,12})$")]
Wanted = Annotated[str, Field(max_length=500)]


class VolumeSourceOut(BaseModel):
    """A disk, or a copy of one on the bench. `id`: its name, or copy-ORDER."""

    id: str
    name: str
    is_copy: bool


class VolumePieceOut(BaseModel):
    """A partition that can be looked at. `holds`: what its mark says."""

    number: int
    first: int
    last: int
    name: str
    holds: str
    size: int


class VolumeFindingOut(BaseModel):
    id: str
    severity: str
    text: str
    count: int
    repairable: bool


class VolumeSystemOut(BaseModel):
    name: str
    version: str
    root: str


class RepairGroupOut(BaseModel):
    """`places`: cells of the ground plan that it writes to; `touches`: files and folders; `loses`: something on it
    is gone afterwards; `is_ticked`: it is wanted unless somebody says otherwise: nothing is lost by it, nor by what it
    builds on."""

    id: str
    what: str
    doubts: list[str]
    loses: bool
    is_ticked: bool
    touches: list[str]
    writes: int
    size: int
    fields: list[str]
    places: list[int]


class ShareOut(BaseModel):
    """`kinds`: (what they are, how many), most first."""

    path: str
    kind: str
    files: int
    size: int
    kinds: list[tuple[str, int]]


class VolumeKeyOut(BaseModel):
    """One way to open an encrypted volume. `id`: as the customer's account page and the printed key show it; `opens`:
    it can be used on the bench."""

    id: str
    how: str
    name: str
    opens: bool


class EncryptionOut(BaseModel):
    """`opened_by`: the id of the key through which its inside was looked at, None where it was not."""

    name: str
    id: str
    method: str
    state: str
    keys: list[VolumeKeyOut]
    needs_key: bool
    opened_by: str | None


class SetOut(BaseModel):
    """The set of drives (raid) or the group (lvm) that a volume is read from. `there`: drives of it that are here, of
    `of`; `stale`: those left out since others are newer; `is_read`: enough of them are here; `is_shared`: the volume is
    read and not written; `is_doubtful`: what is worked out for a missing drive may be wrong in places."""

    kind: str
    name: str
    level: str
    of: int
    there: int
    stale: int
    is_read: bool
    is_shared: bool
    is_doubtful: bool = False


class VolumeLookOut(BaseModel):
    """The newest look at a volume. `left`: what stays for the system's own checker or a person after all groups;
    `fill`: how full each stretch is; `is_stale`: the machine was started anew since."""

    at: str
    by: str
    kind: str
    label: str
    state: str
    verdict: str
    size: int
    used: int | None
    files: int | None
    findings: list[VolumeFindingOut]
    systems: list[VolumeSystemOut]
    groups: list[RepairGroupOut]
    state_after: str
    left: list[str]
    refused: str
    check_minutes: float
    repair_minutes: float
    people: list[ShareOut]
    deleted: int
    fill: list[float]
    is_stale: bool
    encryption: EncryptionOut | None
    held_in: SetOut | None


class VolumeJobOut(BaseModel):
    """What goes on now. `what`: look, repair, rescue; `done`, `of`: of the stage's own unit; `problem`: why it came to
    nothing."""

    what: str
    stage: str
    done: int
    of: int
    order: int | None
    problem: str = ""


class VolumeRepairOut(BaseModel):
    """`id`: what takes it back."""

    id: str
    what: str
    state: str
    at: str
    by: str
    size: int
    taken_back: bool
    can_take_back: bool
    reverts: bool
    detail: str


class RescueOut(BaseModel):
    """Files on their way to the bench, or there. `folder`: where they are; counts of files by state; `not_whole`: the
    first of those of which something is missing."""

    id: str
    order: int | None
    what: list[str]
    deleted: bool
    is_all: bool
    state: str
    at: str
    by: str
    files: int
    files_done: int
    size: int
    size_done: int
    whole: int
    holes: int
    lost: int
    folder: str
    detail: str
    not_whole: list[str]


class VolumesOut(BaseModel):
    """Everything on the screen. `held`: why this cannot be ordered now, by look, repair, rescue; `linked`: a probe may
    pull orders; `has_key`: a key was entered for this ticket, and is in the server's memory;
    `has_desktop`: the server's own computer can show a folder."""

    sources: list[VolumeSourceOut]
    source: str
    pieces: list[VolumePieceOut]
    first: int | None
    sectors: int
    sector: int
    look: VolumeLookOut | None
    job: VolumeJobOut | None
    repairs: list[VolumeRepairOut]
    rescues: list[RescueOut]
    held: dict[str, str]
    linked: bool
    has_key: bool
    has_records: bool
    has_desktop: bool


class RecordFindingOut(BaseModel):
    """`weight`: how much it says of the fault that it points to, 0 to 1."""

    id: str
    text: str
    weight: float


class RecordedSystemOut(BaseModel):
    """One installed system. Times in UTC, ISO 8601; None where it was not read."""

    root: str
    name: str
    version: str | None
    edition: str | None
    build: str | None
    installed: str | None
    firmware: str | None
    zone: str | None
    universal: bool | None
    installed_for: list[str]
    last_good_start: str | None
    last_shutdown: str | None
    clean: bool | None
    hibernated: bool | None
    pending: list[str]


class RecordEventOut(BaseModel):
    """One event, or several alike within an hour: `count` from `at` until `until`. `row`: of the time line."""

    at: str | None
    until: str | None
    kind: str
    row: str
    source: str
    id: int | None
    text: str
    count: int


class RecordLogOut(BaseModel):
    path: str
    records: int
    first: str | None
    last: str | None
    torn: list[str]


class RecordRepairOut(BaseModel):
    """One group of what the records make possible to repair. `doubts`: what is lost by it, or not certain."""

    id: str
    what: str
    doubts: list[str]


class RecordsOut(BaseModel):
    """What the installed systems of a volume say of themselves. `is_stale`: the machine was started anew since;
    `repairs`: what could be written to the system, `not_repaired`: why nothing is."""

    at: str
    by: str
    sentence: str
    findings: list[RecordFindingOut]
    systems: list[RecordedSystemOut]
    events: list[RecordEventOut]
    logs: list[RecordLogOut]
    repairs: list[RecordRepairOut]
    not_repaired: str
    is_stale: bool


class LivesAtOut(BaseModel):
    """What lives at a sector of a volume that was looked at."""

    lba: int
    text: str
    path: str | None
    stakes: str


class LookIn(BaseModel):
    model_config = ConfigDict(extra="forbid")

    source: Source
    first: Annotated[int, Field(ge=0)]
    by: By


class RepairIn(LookIn):
    groups: Annotated[list[Annotated[str, Field(max_length=60)]], Field(min_length=1, max_length=40)]


class TakeBackRepairIn(BaseModel):
    model_config = ConfigDict(extra="forbid")

    source: Source
    first: Annotated[int, Field(ge=0)]
    id: Annotated[str, Field(pattern=r"^[\w.-]{1,80}$")]
    by: By


class KeyIn(LookIn):
    """A key as typed, or a startup key file as base64."""

    key: Annotated[str, Field(max_length=4000)] = ""
    file: Annotated[str, Field(max_length=16_000)] = ""


class RescueIn(LookIn):
    """`only`: paths of folders and files, empty for what lies right below the root; all of the volume where empty;
    `deleted`: what was deleted and still stands, instead; `is_all`: nothing else is wanted by the customer."""

    only: Annotated[list[Wanted], Field(max_length=200)] = []
    deleted: bool = False
    is_all: bool = False
