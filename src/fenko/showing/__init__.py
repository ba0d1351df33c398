"""What controls do, shown: legends of the desk that runs, sheets and key labels of its files."""
