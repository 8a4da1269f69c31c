"""Pictures and files that travel: EXR and PNG, presets, tables."""
