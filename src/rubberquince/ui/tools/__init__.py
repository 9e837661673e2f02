"""Tools of the view: each is a pill beside the displays, on until it is put away."""
