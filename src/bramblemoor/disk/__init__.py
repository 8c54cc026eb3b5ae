"""What speaks to drives: durable writing, volumes, names, and names that somebody told."""
