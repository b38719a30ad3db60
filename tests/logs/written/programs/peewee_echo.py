"""Made peewee.log."""

import logging
import sys

import peewee

logging.basicConfig(level=logging.DEBUG, stream=sys.stdout)
office = peewee.SqliteDatabase(":memory:")


class Vessel(peewee.Model):
    name = peewee.CharField()

    class Meta:
        database = office


office.create_tables([Vessel])
Vessel.create(name="Tern's\nx")
for key in (1, 1, 1):
    Vessel.get_by_id(key)
