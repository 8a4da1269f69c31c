"""Which pictures may come out of one recording: those of configurations with the same stem."""

from swift_sample.core.settings import Configuration


def index_bits(samples: int) -> int:
    """How many bits number the samples of a half in the order of blue noise, which is another one
    for each of these numbers."""
    in_a_half = max(1, -(-samples // 2))
    return (in_a_half - 1).bit_length()


def why_not_derived(recorded: Configuration, wanted: Configuration) -> str:
    """Why a picture does not come out of a recording with other settings; "" where it may, for the
    values that the recording was made for."""
    there = recorded.stem()
    here = wanted.stem()
    for key in sorted(there.keys() | here.keys()):
        if there.get(key) != here.get(key):
            return f"{wanted.catalogue[key].full_label.lower()} has to be rendered"

    most = int(recorded["samples.max"])
    samples = int(wanted["samples.max"])
    if samples > most:
        return f"it has {samples} samples, the recording {most}"
    if wanted["samples.pattern"] == "blue noise" and index_bits(samples) != index_bits(most):
        return "blue noise has another order for so many samples"

    return ""
