"""What is measured next. A policy is pure: it looks at a state and proposes a step with its reason, in words for the log; or
says that there is nothing left, and why."""

from swift_sample.core.study.policies.frames import Framing
from swift_sample.core.study.policies.holding import Holding
from swift_sample.core.study.policies.passes import KeepingPasses
from swift_sample.core.study.policies.proposal import Policy, Proposal
from swift_sample.core.study.policies.search import Searching
from swift_sample.core.study.policies.sweep import Remeasuring, Sweeping
from swift_sample.core.study.policies.trying import Trying

__all__ = ["Framing", "Holding", "KeepingPasses", "Policy", "Proposal", "Remeasuring", "Searching", "Sweeping", "Trying"]
