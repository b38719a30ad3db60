"""The harbour office under Django: `HARBOUR_DB=harbour.db python manage.py runserver`.

HARBOUR_PAGES=tuned shows the pages as tuned.
"""

import os
import sys

from django.core.management import execute_from_command_line

if __name__ == "__main__":
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "office.settings")
    execute_from_command_line(sys.argv)
