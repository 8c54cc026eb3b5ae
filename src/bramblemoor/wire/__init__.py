"""What speaks to other machines, and knows nothing of pictures."""
