"""What compiled code stands on: records and how they are laid out (`schema`, `records`), reading
arrays by their address (`memory`), and what only the processor can do (`simd`)."""
