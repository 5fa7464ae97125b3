"""What every room stands on: errors, checks, colour transfer, noise, `Points`, files, threads and progress."""
