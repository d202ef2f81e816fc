"""What compilers say of their own work: their optimisation records, one reader a form."""
