"""What is claimed, decided by the engines before it is printed: a green audit, a mend, a design that works."""
