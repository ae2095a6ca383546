"""Pictures, drawn with Matplotlib from the plain data of `analysis`; one style file for all."""
