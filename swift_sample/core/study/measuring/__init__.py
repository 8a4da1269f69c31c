"""How measuring is done. `policies` look at a state and propose `steps`; `driver` gives steps to
workers and writes what came of them into the log; `snapshot` is what it publishes for windows and
terminals."""
