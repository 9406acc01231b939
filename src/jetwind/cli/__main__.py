"""``python -m jetwind.cli`` is ``./jetwind check`` and ``./jetwind render``."""

from jetwind.cli.main import main

if __name__ == "__main__":
    main()
