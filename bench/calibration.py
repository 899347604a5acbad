"""How often what is said is right, by how surely it was said: the strongest outcome's share of all weights."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from itertools import pairwise

STEPS = (0.0, 0.6, 0.75, 0.85, 0.95, 1.01)


@dataclass
class Calibration:
    """Pairs of how surely something was said, and whether it was so."""

    pairs: list[tuple[float, bool]] = field(default_factory=list)

    def add(self, weights: Mapping[str, float], *, is_right: bool) -> None:
        total = sum(weights.values())
        if total > 0:
            self.pairs.append((max(weights.values()) / total, is_right))

    def lines(self, name: str) -> list[str]:
        """`said from to: said on average, right of so many`."""
        out = [f"calibration, {name}:"]
        for low, high in pairwise(STEPS):
            own = [(said, right) for said, right in self.pairs if low <= said < high]
            if own:
                mean, right = sum(s for s, _ in own) / len(own), sum(r for _, r in own)
                out.append(
                    f"  {low:.2f} to {min(high, 1):.2f}: said {mean:.3f}, right {right / len(own):.3f} of {len(own)}"
                )
        if self.pairs:
            error = sum((said - right) ** 2 for said, right in self.pairs) / len(self.pairs)
            out.append(f"  Brier score {error:.3f} over {len(self.pairs)}")
        return out
