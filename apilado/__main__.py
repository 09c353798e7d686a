"""python -m apilado"""

import sys

from apilado.cli import main

sys.exit(main())
