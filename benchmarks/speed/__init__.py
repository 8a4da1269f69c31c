"""How long things take."""
