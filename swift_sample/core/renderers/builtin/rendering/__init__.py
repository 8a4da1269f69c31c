"""One render from scene to picture: `render` is its phases, the others what they use."""
