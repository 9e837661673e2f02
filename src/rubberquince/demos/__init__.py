"""The harvest fair: demo scenes built by code, so that they never go stale."""
