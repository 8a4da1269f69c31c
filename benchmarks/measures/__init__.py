"""Whether the measures hold on the renderer's own noise."""
