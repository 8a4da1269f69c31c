import numpy as np

from swift_sample.core.measure.places import places_worth_watching
from swift_sample.core.picture.view import View

HEIGHT = 160
WIDTH = 240


def test_each_place_is_where_it_was_put() -> None:
    """Grain, missing light, smeared structure and stray pixels, each in a corner of its own."""
    rng = np.random.default_rng(3)
    true = np.full((HEIGHT, WIDTH, 3), 0.2, np.float32)
    true[100:140, 20:60] *= (1 + 0.5 * (np.indices((40, 40)).sum(axis=0) % 4 < 2))[..., None]
    shown = true.copy()
    shown[20:50, 20:50] += rng.normal(0, 0.03, (30, 30, 1)).astype(np.float32)
    shown[20:60, 180:220] *= 0.7
    shown[100:140, 20:60] = true[100:140, 20:60].mean(axis=(0, 1))
    for y, x in rng.integers(0, 30, (12, 2)):
        shown[105 + y, 190 + x] = 5.0

    found = {place.what: place for place in places_worth_watching(shown, true, View())}
    corners = {
        what: (place.x + place.width / 2 > WIDTH / 2, place.y + place.height / 2 > HEIGHT / 2)
        for what, place in found.items()
    }

    assert corners["most light lost"] == (True, False)
    assert corners["most detail lost"] == (False, True)
    assert corners["most stray pixels"] == (True, True)
    assert len(found) == 4
    assert len({(place.x, place.y) for place in found.values()}) == 4


def test_a_picture_that_is_its_reference_has_no_place_worth_watching() -> None:
    true = np.random.default_rng(1).random((HEIGHT, WIDTH, 3), np.float32)
    assert places_worth_watching(true, true, View()) == []
