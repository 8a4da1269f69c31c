"""Where more of a setting stops paying: the knee of a trail of trials."""

import math
from collections.abc import Sequence

LEAST_BEND = 0.08
"""How far the knee must stand off the straight line, as a share of the trail's height; less is no
knee."""


def knee(points: Sequence[tuple[float, float]]) -> int | None:
    """The place of the knee among (seconds, limit share) points, or None where the trail has none.

    The point that lies furthest below the line from the fastest to the slowest, on logarithmic axes
    scaled to 0 to 1 (Satopaa et al. 2011, "Finding a Kneedle in a Haystack"). All values must be
    positive; needs at least three points of which the error falls.
    """
    order = sorted(range(len(points)), key=lambda k: points[k][0])
    if len(order) < 3:
        return None

    places = [(math.log(points[k][0]), math.log(points[k][1])) for k in order]
    (x0, y0), (x1, y1) = places[0], places[-1]
    if x1 <= x0 or y1 >= y0:
        return None

    below = [((x1 - x) / (x1 - x0)) - ((y - y1) / (y0 - y1)) for x, y in places]
    best = max(range(len(order)), key=lambda k: below[k])
    return order[best] if below[best] > LEAST_BEND else None
