"""What people see of lending: the command, and the lender that it starts."""
