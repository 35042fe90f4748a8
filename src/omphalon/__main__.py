"""`python -m omphalon`, the same as the `omphalon` command."""

from omphalon.cli import main

if __name__ == "__main__":
    main()
