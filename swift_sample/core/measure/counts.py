"""How sure a count of rare events is, such as stray pixels in a few pictures."""

import math


def count_interval(count: float) -> tuple[float, float]:
    """The 95 % interval of the mean of a Poisson variable of which `count` was seen, 0 or more.

    Garwood 1936, "Fiducial limits for the Poisson distribution", Biometrika 28: half of the 2.5th
    percentile of chi-squared with 2 n degrees of freedom, and of the 97.5th with 2 n + 2, which the
    incomplete gamma function gives. Where nothing was seen there is nothing below, and the upper
    end is that of 95 % to one side, about three (Hanley and Lippman-Hand 1983, "If nothing goes
    wrong, is everything all right?", JAMA 249).
    """
    if count <= 0:
        return 0.0, -math.log(0.05)

    from scipy.special import gammaincinv  # takes as long to load as a command's whole work

    return float(gammaincinv(count, 0.025)), float(gammaincinv(count + 1, 0.975))
