"""The window: thin PyQt6 widgets over the core. Widgets hold no logic; a model goes in, signals
come out."""
