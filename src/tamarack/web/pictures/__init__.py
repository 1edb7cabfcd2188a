"""Pictures of numbers as SVG, and pictures that people upload."""
