"""What is compiled from a scene before it is rendered: `scene` leads to all of it. Where a table
takes a little arithmetic to read (`alias`, `energy`), that stands beside what makes it."""
