"""The solver: a skin carried by nodes, moved by minimising one energy a step.  SI units throughout."""
