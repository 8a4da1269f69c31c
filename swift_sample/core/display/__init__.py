"""Pictures as a person looks at them: at the resolution of a screen, and blended by hand."""
