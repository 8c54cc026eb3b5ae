"""From a camera: commands that take in what lies on cards and phones."""
