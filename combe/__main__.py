"""``python -m combe`` is the command ``combe``."""

from combe.cli import main

if __name__ == "__main__":
    main()
