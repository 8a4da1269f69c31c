"""The plan of a study: what is rendered, varied and acceptable, and the file that it stands in."""
