"""The product without its window: scenes, renderer, denoisers, measures, studies. Knows no Qt."""

from swift_sample.core.kernels import use_cache_folder

use_cache_folder()
