"""The command line: arguments, printing, exit codes. Computes nothing."""
