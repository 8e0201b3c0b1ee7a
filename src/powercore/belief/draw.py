"""How much a station really draws against its plan."""

from __future__ import annotations

from dataclasses import dataclass

from powercore import limits
from powercore.physics.loads import ONE_IN_TEN

#: A factor is not believed to be less or more, whatever a reading says was drawn.
LEAST, MOST = limits.DRAWS.low, limits.DRAWS.high


@dataclass(frozen=True, slots=True)
class DrawFactor:
    """Real draw over planned draw: what is believed of it, and how sure that is."""

    mean: float = 1.0
    #: One standard deviation.
    sd: float = 0.0
    #: On how many turns of batteries it rests; 0: on the plan's own spread alone.
    turns: int = 0

    @property
    def is_news(self) -> bool:
        """Whether it says that the plan is wrong: by a tenth, 9 times in 10."""
        off = abs(self.mean - 1)
        return self.turns > 0 and off >= 0.1 and off > ONE_IN_TEN * self.sd
