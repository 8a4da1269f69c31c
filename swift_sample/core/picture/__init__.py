"""Pictures: light with its layers, the view through which it is shown and judged, files."""
