"""Running a scene and keeping its frames."""
