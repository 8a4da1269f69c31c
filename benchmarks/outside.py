"""The guided search on a program with a command line, from its times and pictures alone (`bank_outside`)."""

from benchmarks.bank_outside import OutsidePool
from benchmarks.search import compare


def main() -> None:
    """Print how close each search comes."""
    compare(OutsidePool, 0.08)
