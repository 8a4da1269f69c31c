"""The product without its window: scenes, renderer, denoisers, measures, studies. Knows no Qt."""
