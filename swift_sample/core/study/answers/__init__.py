"""What follows from a state. `results` works out times, figures and verdicts; `pick` the fastest
acceptable trial, `guidance` what may help where there is none; `kinds` the answer on each kind of
machine, `frames` that of a sequence."""
