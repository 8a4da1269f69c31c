"""Dialogs and sheets."""
