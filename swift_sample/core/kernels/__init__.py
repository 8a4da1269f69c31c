"""What compiled code stands on: how kernels are compiled, where they are kept, arithmetic that they
share."""
