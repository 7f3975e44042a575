"""How far did it move? Distances of a cloud from another epoch, a surface or a model."""
