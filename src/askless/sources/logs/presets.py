"""How ORMs write their statements when their logging is switched on. A new one is an entry here:
see `Layout`.
"""

from __future__ import annotations

from askless.sources.logs.layouts import TIME, Layout

# what the application's own logging puts before a line, perhaps a time
_LEAD = rf"^(?:.*?{TIME})?.*?"

PRESETS = {
    # Django, django.db.backends at DEBUG: (0.001) SELECT ...; args=(1,); alias=default
    "django": Layout(
        rf"^(?:.*?{TIME}.*?)?\((?P<duration_s>\d+\.\d+)\) (?P<sql>.*?); "
        rf"args=(?P<parameters>.*?)(?:; alias=(?P<session>\S+))?$",
        system="sqlite",
    ),
    # SQLAlchemy, echo=True: the statement, then [generated in 0.0001s] (1,) or [cached since 1s
    # ago] (1,)
    "sqlalchemy": Layout(
        rf"^{TIME} INFO sqlalchemy\.engine\.Engine (?!\[)(?P<sql>\S.*)$",
        follows=r"INFO sqlalchemy\.engine\.Engine \[(?:generated|cached|no "
        r"key|raw|dialect|caching)[^\]]*\] (?P<parameters>.*)$",
    ),
    # Peewee, its logger at DEBUG: ('SELECT ...', [1])
    "peewee": Layout(
        _LEAD + r"\((?P<sql>'.*?'|\".*?\"), (?P<parameters>\[.*\])\)$", system="sqlite"
    ),
    # Ruby's Active Record at DEBUG: Vessel Load (0.1ms)  SELECT ... [["id", 1]]; what its cache
    # answered is not a query
    "activerecord": Layout(
        r"^(?!.*?CACHE [\w: ]*\(\d+\.\d+ms\))"
        + _LEAD[1:]
        + r"(?:#(?P<session>\d+)\] DEBUG -- : )?(?:\[(?P<request>[\w-]{8,})\] )?\s+(?:[A-Z][\w:]* "
        r")?(?:[A-Z][\w ]*)?"
        r"\((?P<duration_ms>\d+\.\d+)ms\)  (?P<sql>.*?)(?:  (?P<parameters>\[\[.*\]\]|\[\]))?$",
        follows=r"(?:\[(?P<request>[\w-]{8,})\] )?\s*↳ (?P<file>[^:]+):(?P<line>\d+)(?::in "
        r"[`'](?P<function>[^']*)')?",
    ),
    # Ruby's Sequel: (0.000085s) SELECT ...
    "sequel": Layout(
        _LEAD + r"(?:#(?P<session>\d+)\]\s+\w+ -- : )?(?:\(conn: (?P<connection>\d+)\) "
        r")?\((?P<duration_s>\d+\.\d+)s\) (?P<sql>.*)$"
    ),
    # Node's Sequelize: Executing (default): SELECT ...; with benchmark and logQueryParameters:
    # {"$1":7} Elapsed time: 1ms
    "sequelize": Layout(
        _LEAD + r"Execut(?:ing|ed) \([^)]*\): (?P<sql>.*?);?(?: (?P<parameters>\{.*\}|\[.*\]))?(?: "
        r"Elapsed time: (?P<duration_ms>\d+)ms)?$"
    ),
    # Node's TypeORM, to the console and to a file: query: SELECT ... -- PARAMETERS: [1]
    "typeorm": Layout(
        rf"^(?:\[{TIME}\]\[QUERY\]|query): (?P<sql>.*?)(?: -- PARAMETERS: (?P<parameters>\[.*\]))?$",
        follows=r"^(?:query failed:|error: (?P<error>.*)|\[[^\]]*\]\[(?:FAILED QUERY|QUERY "
        r"ERROR)\]: (?:\w*Error: (?P<failed>.*))?)",
    ),
    # Node's Knex, DEBUG=knex:query,knex:bindings: the statement, then its values as Node prints
    # them
    "knex": Layout(
        rf"^(?:.*?{TIME}.*?|\s*)knex:query (?P<sql>.*?) \S+(?: \+\d+m?s)?$",
        follows=r"knex:bindings (?P<parameters>\[.*\]) \S+(?: \+\d+m?s)?$",
    ),
    # Node's Drizzle, logger: true: Query: select ... -- params: [1]
    "drizzle": Layout(_LEAD + r"Query: (?P<sql>.*?)(?: -- params: (?P<parameters>\[.*\]))?$"),
    # Java's Hibernate, org.hibernate.SQL at DEBUG and its binder at TRACE, which tells one value a
    # line
    "hibernate": Layout(
        _LEAD + r"(?:\[(?P<session>[^\]]+)\] )?org\.hibernate\.SQL\s*[-:]+ ?(?P<sql>.*)$",
        follows=r"^(?:Hibernate: |.*?(?:\[(?P<session>[^\]]+)\] "
        r")?(?:o\.h\.|org\.hibernate\.)\S+\s*[-:]+ binding parameter "
        r"(?:\[\d+\] as \[\w+\] - (?P<value>.*)|\(\d+:\w+\) <- \[(?P<bound>.*)\])$)",
    ),
    # Java's EclipseLink, eclipselink.logging.level.sql=FINE and eclipselink.logging.parameters=true
    "eclipselink": Layout(
        rf"^.*?{TIME}--\w+Session\(\d+\)--Connection\((?P<session>\d+)\)--(?:Thread\(.*?\)--)"
        rf"?(?P<sql>.*)$",
        follows=r"^\s+bind => \[(?P<values>.*)\]$",
    ),
    # PHP's Doctrine through its logging middleware, as Monolog writes it: a message, then an object
    "doctrine": Layout(
        rf"^\[{TIME}\] \S+: Executing (?:statement|query): .*?(?P<object>\{{\"sql\":.*\}}) "
        rf"(?:\[\]|\{{.*\}})$",
        fields={"sql": "sql", "parameters": "params"},
    ),
}
