"""What to try next. `search` chooses among combinations by what `surrogate` predicts of them;
`expectation` is what settings let expect before anything like them was measured; `scoring` holds
predictions against what came out."""
