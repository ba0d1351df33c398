"""What people see of machines: the command, how they stand, pictures of what they did."""
