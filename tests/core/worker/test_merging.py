"""References are merged of pieces, and told without some of them."""

import numpy as np
import pytest

from swift_sample.core.picture.picture import Picture
from swift_sample.core.worker.merging import merge_reference, without_pieces

SHAPE = (5, 7, 3)


def piece(seed: int) -> Picture:
    rng = np.random.default_rng(seed)
    half_a, half_b = rng.random((2, *SHAPE), np.float32)
    return Picture((half_a + half_b) / 2, {"half_a": half_a, "half_b": half_b})


def merged(pieces: list[tuple[Picture, int]]) -> tuple[Picture, int]:
    whole, samples = pieces[0]
    for picture, number in pieces[1:]:
        whole = merge_reference(whole, samples, picture, number)
        samples += number

    return whole, samples


def test_a_reference_without_pieces_is_that_of_the_others() -> None:
    pieces = [(piece(1), 96), (piece(2), 128), (piece(3), 128), (piece(4), 128)]
    whole, samples = merged(pieces)
    rest = without_pieces(whole, samples, [pieces[1], pieces[3]])
    wanted, _ = merged([pieces[0], pieces[2]])

    assert rest.beauty == pytest.approx(wanted.beauty, abs=1e-6)
    for here, there in zip(rest.halves, wanted.halves, strict=True):
        assert here == pytest.approx(there, abs=1e-6)


def test_of_a_reference_something_has_to_be_left() -> None:
    whole, samples = merged([(piece(1), 96)])
    with pytest.raises(ValueError, match="is nothing"):
        without_pieces(whole, samples, [(piece(1), 96)])
