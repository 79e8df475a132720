"""Fields that are cut alike: brute force over frames, uses and scales."""

from itertools import product

import pytest

from yellowjacket.core.judging.equal_field import Side, equal_field

MOST = (512, 480)
SIDES = (Side(6000, 4000, 1.0), Side(6000, 4000, 4.5), Side(900, 630, 1.2), Side(640, 448, 1.0), Side(300, 2000, 1.0))


@pytest.mark.parametrize(("left", "right", "scale"), list(product(SIDES, SIDES, (0.4, 1.0, 1.7))))
def test_both_cuts_hold_the_same_field_on_the_same_pixels(left, right, scale):
    one, other = equal_field(left, right, scale, MOST)
    shown = [(round(cut.width / cut.factor), round(cut.height / cut.factor)) for cut in (one, other)]
    assert shown[0] == shown[1]
    assert shown[0][0] <= MOST[0]
    assert shown[0][1] <= MOST[1]
    # One field: what the left frame shows, the right one shows at its own scale, to the pixel that rounding leaves.
    assert other.width == pytest.approx(one.width * scale, abs=1 + scale)
    assert other.height == pytest.approx(one.height * scale, abs=1 + scale)
    for side, cut in ((left, one), (right, other)):
        assert cut.width <= side.width + 1
        assert cut.height <= side.height + 1
        # Nobody is enlarged beyond the size of the use.
        assert cut.factor >= side.factor * (1 - 1e-9)


def test_the_largest_such_field_is_taken():
    """Alike bodies of ample frames fill the picture; one frame that is too small sets the field for both."""
    one, other = equal_field(Side(6000, 4000, 2.0), Side(6000, 4000, 2.0), 1.0, MOST)
    assert (one.width, one.height) == (other.width, other.height) == (1024, 960)
    small, large = equal_field(Side(256, 240, 1.0), Side(6000, 4000, 1.0), 1.0, MOST)
    assert (small.width, small.height) == (large.width, large.height) == (256, 240)
