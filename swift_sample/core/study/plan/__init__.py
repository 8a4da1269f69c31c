"""What is wanted. `model` is the plan, `edits` every edit of it, `file` how it is written;
`starting` what it begins with."""
