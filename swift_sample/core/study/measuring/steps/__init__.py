"""What a worker can be asked to do, one class a kind. A step names all that it is about when it is
proposed, so that an edit of the plan while it runs cannot file its outcome under another name.

    words(base)        what is being done, for a person
    job(folder)        the message to the worker
    absorb(outcome)    the events that its outcome means
"""

from swift_sample.core.study.measuring.steps.derive import DeriveStep
from swift_sample.core.study.measuring.steps.measure import MeasureStep
from swift_sample.core.study.measuring.steps.passes import PassesStep
from swift_sample.core.study.measuring.steps.record import RecordStep
from swift_sample.core.study.measuring.steps.reference import ChunkStep, ReferenceStep
from swift_sample.core.study.measuring.steps.run import RunStep

Step = RunStep | ReferenceStep | ChunkStep | RecordStep | DeriveStep | MeasureStep | PassesStep

__all__ = [
    "ChunkStep",
    "DeriveStep",
    "MeasureStep",
    "PassesStep",
    "RecordStep",
    "ReferenceStep",
    "RunStep",
    "Step",
]
