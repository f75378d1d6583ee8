"""Pure arithmetic on addresses: values, free space, subnets for named needs. Knows no network and no file."""
