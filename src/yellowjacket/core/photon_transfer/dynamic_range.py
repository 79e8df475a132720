"""Dynamic range from the noise model: at a wanted SNR, engineering, and at the size of a use.

SNR(N) = N / √(N + R²); the signal that reaches SNR s is N_s = (s² + √(s⁴ + 4 s² R²)) / 2; DR_s = log2(N_sat / N_s).
Closed forms of the linear camera model (EMVA 1288; from memory).
"""

from __future__ import annotations

import math

from yellowjacket.core.metrology.estimate import Quantity, unknown, with_error
from yellowjacket.core.metrology.notes import Missing

SNR_LEVELS = (1, 2, 4, 10)


def signal_at_snr_e(snr: float, read_noise_e: float) -> float:
    """Electrons at which the SNR of one pixel is reached, with read noise in electrons.

    Without read noise the SNR is the root of the signal; SNR 1 with a read noise of √2 e⁻ takes 2 e⁻.

    >>> signal_at_snr_e(10, 0.0), round(signal_at_snr_e(1, math.sqrt(2)), 9)
    (100.0, 2.0)
    """
    square = snr * snr
    return (square + math.sqrt(square * square + 4 * square * read_noise_e * read_noise_e)) / 2


def dynamic_range_stops(
    snr: float, saturation_dn: Quantity, gain: Quantity, noise_dn: Quantity, *, use_share: float = 1.0
) -> Quantity:
    """Stops from saturation down to where the SNR is reached.

    ``saturation_dn`` above black; ``gain`` in e⁻/DN; ``noise_dn`` read noise in DN. ``use_share``: output pixels
    over the picture's, at most 1: averaging lets each pixel be worse by its root.
    """
    for part in (saturation_dn, gain, noise_dn):
        if part.value is None or part.value <= 0:
            return unknown(part, otherwise=Missing.NO_PART_OF_MODEL)
    values = [float(part.value or 0.0) for part in (saturation_dn, gain, noise_dn)]
    wanted = snr * math.sqrt(use_share)

    def stops(saturation: float, g: float, sigma: float) -> float:
        return math.log2(saturation * g / signal_at_snr_e(wanted, sigma * g))

    value = stops(*values)
    total = 0.0
    for n, part in enumerate((saturation_dn, gain, noise_dn)):
        moved = list(values)
        # Halfway to zero at most: a wide interval must not turn the logarithm over.
        moved[n] += min(part.se, values[n])
        total += (stops(*moved) - value) ** 2
    return with_error(
        value, math.sqrt(total), min(part.n for part in (saturation_dn, gain, noise_dn)), *saturation_dn.notes
    )


def engineering_range_stops(saturation_dn: Quantity, noise_dn: Quantity) -> Quantity:
    """log2 of saturation over read noise, both in DN: the gain cancels, in the interval too.

    >>> from yellowjacket.core.metrology.estimate import Quantity
    >>> engineering_range_stops(Quantity(16384.0), Quantity(4.0)).value
    12.0
    """
    if not saturation_dn.value or not noise_dn.value:
        return unknown(saturation_dn, noise_dn, otherwise=Missing.NO_PART)
    relative = math.hypot(saturation_dn.se / saturation_dn.value, noise_dn.se / noise_dn.value)
    value = math.log2(saturation_dn.value / noise_dn.value)
    return with_error(value, relative / math.log(2), min(saturation_dn.n, noise_dn.n), *saturation_dn.notes)
