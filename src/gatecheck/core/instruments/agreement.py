"""Whether what an instrument's sentence speaks for is what the suspects say; where they differ, both are named."""

from __future__ import annotations

from collections.abc import Sequence

from gatecheck.core.belief.model import Model
from gatecheck.core.tape.fold import TicketState
from gatecheck.core.words.said import Said, say

_NOTABLE = 0.2
"""the belief stands elsewhere when one fault that the sentence does not name is likelier than this, and than all that
it names together"""


def told_elsewhere(model: Model, state: TicketState, faults: Sequence[str]) -> Said | None:
    """What to say beside a sentence that speaks for these faults: that everything read together speaks for another one.

    None where they agree, where nothing is likely, or where the sentence names no fault.
    """
    if not faults:
        return None
    marginals = state.marginals
    first = int(marginals.argmax())
    likeliest, p = model.space.fault_ids[first], float(marginals[first])
    named = float(state.belief @ model.fault_mask(*faults))
    if likeliest in faults or p < max(_NOTABLE, named):
        return None
    return say("agree.elsewhere", fault=likeliest, p=p, named=[*faults][:3], q=named)
