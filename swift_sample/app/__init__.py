"""Between core and window: the open study on a thread of its own, opening, and pictures read aside.
No widgets."""
