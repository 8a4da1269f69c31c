"""A study: one scene, the settings to try, and everything measured of them. Seven rooms, each of
which knows those before it (`package` and `beginning` stand beside each other).

    plan        what is wanted: the settings to try, limits, view, and every edit of them
    log         what happened: events, the state they add up to, and how both are kept on disk
    answers     what follows: figures, verdicts, the pick, and what to tell of them
    search      what to try: predictions of untried combinations, and which promises most
    measuring   how it is done: policies propose steps, workers carry them out, the driver writes
                down what came of it
    beginning   before there is a study: the pilot, and limits chosen by eye
    package     how a study travels: packed, merged, or begun from finished renders
"""
