"""`python -m dolce` is the `dolce` command."""

from dolce.cli.main import main

raise SystemExit(main())
