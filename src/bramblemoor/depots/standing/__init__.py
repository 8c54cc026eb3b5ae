"""What a frame's copies amount to, counted by year and depot."""
