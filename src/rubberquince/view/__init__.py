"""The picture of the scene: camera, drawing, picking, handles."""
