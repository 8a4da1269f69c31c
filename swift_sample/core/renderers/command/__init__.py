"""Renderers that are programs of their own, each described by a renderer file: how it is started,
what can be set, where its picture appears. docs/renderers.md explains the file,
docs/renderer-file.schema.json states it."""
