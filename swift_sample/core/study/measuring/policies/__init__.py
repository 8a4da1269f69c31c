"""What is measured next. A policy is pure: it looks at a state and proposes a step with its reason,
in words for the log; or says that there is nothing left, and why."""

from swift_sample.core.study.measuring.policies.frames import Framing
from swift_sample.core.study.measuring.policies.holding import Holding
from swift_sample.core.study.measuring.policies.passes import KeepingPasses
from swift_sample.core.study.measuring.policies.proposal import Policy, Proposal
from swift_sample.core.study.measuring.policies.search import Searching
from swift_sample.core.study.measuring.policies.sweep import Remeasuring, Sweeping
from swift_sample.core.study.measuring.policies.trying import Trying

__all__ = [
    "Framing",
    "Holding",
    "KeepingPasses",
    "Policy",
    "Proposal",
    "Remeasuring",
    "Searching",
    "Sweeping",
    "Trying",
]
