"""Renders that exist already, with their times: read from a table, or from what pictures say of
themselves."""
