"""When an axis presses the cells at its ends: thresholds with hysteresis, so that a trembling thumb is one press."""

from __future__ import annotations

PRESS_AT = 0.50
"""Share of the way (0 to 1) past which a direction or a trigger counts as pressed."""
RELEASE_AT = 0.40
"""Share of the way below which it counts as released again."""


FULL_AT = 0.95
"""Share of the way past which an axis counts as pushed all the way."""
FULL_UNTIL = 0.85
"""Share of the way below which it does no longer."""


def pressed_end(value: float, before: int, press_at: float = PRESS_AT, release_at: float = RELEASE_AT) -> int:
    """Which end of the axis is pressed at `value` (-1 to 1): -1, 0 or 1, given which one was `before`."""
    if before and value * before > release_at:
        return before
    if value >= press_at:
        return 1
    if value <= -press_at:
        return -1
    return 0


class Detents:
    """Counts whole detents out of fractions and loses none; turning back forgets the rest of the other way."""

    __slots__ = ("rest",)

    MOST_AT_ONCE = 1000

    def __init__(self) -> None:
        self.rest = 0.0

    def turn(self, detents: float) -> int:
        """The whole detents (negative, 0 or positive) that are complete after turning by `detents`."""
        if self.rest * detents < 0:
            self.rest = 0.0
        self.rest += detents
        # A fraction that was cut off in the twelfth place is still the whole detent that it was meant to be.
        whole = int(round(self.rest, 9))
        self.rest -= whole
        return max(-self.MOST_AT_ONCE, min(self.MOST_AT_ONCE, whole))
