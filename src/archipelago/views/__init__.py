"""Results to tables, drawings and texts. Computes nothing, prints nothing."""
