"""Before there is a study: `pilot` renders a first small picture, `by_eye` lets limits be chosen by
looking."""
