"""`python -m jagged_quilt` is `jquilt`."""

from jagged_quilt.cli.main import main

if __name__ == "__main__":
    main()
