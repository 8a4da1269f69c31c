"""What follows light, compiled: `tiles` takes samples of pixels, `path` follows one sample, the
others are what it meets."""
