"""The built-in path tracer: settings, renderer, denoisers, and what it knows about its own
costs."""
