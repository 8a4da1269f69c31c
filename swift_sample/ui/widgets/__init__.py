"""Widgets that pages and strips are made of. None knows a study; each takes what it shows and gives
signals out."""
