"""Shapes: polygon meshes, primitives, and the lattice of cells that carries a solid."""
