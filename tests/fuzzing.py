"""How many made-up inputs a fuzz test tries: the same ones in `make test`, ever new ones and many
more in `make fuzz`."""

import os

from hypothesis import HealthCheck, settings

MORE_VARIABLE = "SWIFT_SAMPLE_FUZZ"
"""Set to a whole number, every fuzz test tries so many times its usual inputs, from a new seed each
time."""


def examples(count: int) -> settings:
    """Hypothesis settings for a fuzz test of `count` inputs."""
    more = int(os.environ.get(MORE_VARIABLE, "0"))
    return settings(
        max_examples=count * max(more, 1),
        derandomize=not more,
        database=None,
        deadline=None,
        suppress_health_check=[HealthCheck.function_scoped_fixture, HealthCheck.too_slow],
    )
