"""What PostgreSQL would run for a statement, by its own catalogs: the statement is parsed by the
server and never run.

The server keeps the parse tree of the body of a function. The statement becomes such a body in a
transaction that is rolled back; the tree names every function, operator, type and table by its
number, however the text spelled it. From there the catalogs lead to views, row security, domains,
aggregates and the operators of a type.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from typing import Any

from sqlalchemy.engine import Connection
from sqlalchemy.exc import DBAPIError

from askless.core.errors import AskLessError
from askless.core.sql.functions import functions_in
from askless.core.sql.statements import index_parts
from askless.core.sql.tokens import tokens
from askless.database.driver_query import DriverQuery
from askless.database.servers import Routine

_FIRST_USER_OID = 16384  # FirstNormalObjectId: what initdb made has a smaller number

# Volatile, as they give something else each time, and nothing more; or refused in a read-only
# transaction.
_HARMLESS = frozenset(
    """
    random random_normal setseed clock_timestamp timeofday gen_random_uuid uuidv4 uuidv7 pg_sleep pg_sleep_for pg_sleep_until
    currval lastval nextval setval current_query txid_status pg_xact_status pg_sequence_last_value pg_jit_available
    pg_relation_size pg_table_size pg_indexes_size pg_total_relation_size pg_database_size pg_tablespace_size
    pg_lock_status pg_prepared_xact pg_blocking_pids pg_safe_snapshot_blocking_pids pg_is_in_recovery pg_is_wal_replay_paused
    pg_last_wal_receive_lsn pg_last_wal_replay_lsn pg_last_xact_replay_timestamp pg_current_wal_lsn
    pg_current_wal_flush_lsn pg_current_wal_insert_lsn pg_partition_tree pg_partition_ancestors
    pg_get_shmem_allocations pg_get_backend_memory_contexts pg_stat_get_recovery_prefetch pg_notification_queue_usage
    pg_show_all_file_settings pg_hba_file_rules pg_ident_file_mappings lo_get
    pg_stat_get_xact_blocks_fetched pg_stat_get_xact_blocks_hit pg_stat_get_xact_numscans
    pg_stat_get_xact_tuples_deleted pg_stat_get_xact_tuples_fetched pg_stat_get_xact_tuples_hot_updated
    pg_stat_get_xact_tuples_newpage_updated pg_stat_get_xact_tuples_inserted pg_stat_get_xact_tuples_returned
    pg_stat_get_xact_tuples_updated
    """.split()  # noqa: SIM905
)
# Not volatile by the catalog, and yet: they run a query of their own, or take a transaction number.
_HARMFUL = re.compile(
    r"(query|table|schema|database|cursor)_to_xml|ts_stat|ts_rewrite|txid_current$"
    r"|pg_current_xact_id$"
)
# Extensions that come with PostgreSQL whose functions compute or read, and do nothing else.
_HARMLESS_EXTENSIONS = frozenset(
    """
    amcheck bloom btree_gin btree_gist citext cube dict_int dict_xsyn earthdistance fuzzystrmatch hstore intagg intarray isn
    ltree pg_buffercache pg_freespacemap pg_trgm pg_walinspect pgcrypto pgrowlocks pgstattuple seg sslinfo tablefunc
    tsm_system_rows tsm_system_time unaccent uuid-ossp
    """.split()  # noqa: SIM905
)
_HARMFUL_IN_EXTENSIONS = re.compile(r"crosstab|connectby")  # they run the text of a query

# Fields of a node that name what runs. The server's writer of trees gives each field as ":name
# value".
_CALLS = re.compile(r"\{FUNCEXPR :funcid (\d+)")
_FUNCTIONS = re.compile(r":[A-Za-z]*(?:[fF]unc|funcid|fnoid|tsmhandler) (\d+)")
_OPERATORS = re.compile(r":(?:opno|eqop|sortop) (\d+)")
_OPERATOR_LISTS = re.compile(r":opnos \(o ([\d ]*)\)")
_RELATIONS = re.compile(r":relid (\d+)")
_TYPES = re.compile(
    r":(?:vartype|consttype|resulttype|funcresulttype|opresulttype|aggtype|wintype|minmaxtype"
    r"|coalescetype|casetype"
    r"|row_typeid|array_typeid|element_typeid|refrestype|refcontainertype|refelemtype|typeId"
    r"|paramtype) (\d+)"
)
_WRITES = re.compile(r"\{QUERY :commandType [2345] ")

_ROUTINES = """
SELECT p.oid, p.proname, n.nspname, p.provolatile, l.lanname, e.extname,
  array_remove(array_remove(ARRAY[a.aggtransfn, a.aggfinalfn, a.aggcombinefn, a.aggserialfn, a.aggdeserialfn, a.aggmtransfn,
    a.aggminvtransfn, a.aggmfinalfn]::oid[], 0::oid), NULL), a.aggsortop::oid
FROM pg_proc p JOIN pg_namespace n ON n.oid = p.pronamespace JOIN pg_language l ON l.oid = p.prolang
LEFT JOIN pg_aggregate a ON a.aggfnoid = p.oid
LEFT JOIN pg_depend d ON d.classid = 'pg_proc'::regclass AND d.objid = p.oid AND d.deptype = 'e'
LEFT JOIN pg_extension e ON e.oid = d.refobjid
WHERE p.oid = ANY (%s::oid[])
"""
# What an operator runs: its function, those that estimate it, and where it is the user's, its
# families' support functions.
_OPERATOR_FUNCTIONS = """
SELECT o.oprcode::oid FROM pg_operator o WHERE o.oid = ANY (%(oids)s::oid[])
UNION SELECT f.id FROM pg_operator o, LATERAL (VALUES (o.oprrest::oid), (o.oprjoin::oid)) AS f (id)
WHERE o.oid = ANY (%(oids)s::oid[]) AND f.id >= 16384
UNION SELECT s.amproc::oid FROM pg_amop m JOIN pg_amproc s ON s.amprocfamily = m.amopfamily
WHERE m.amopopr = ANY (%(oids)s::oid[]) AND s.amproc::oid >= 16384
"""
_TYPE_FUNCTIONS = """
SELECT f.id FROM pg_type t, LATERAL (VALUES (t.typinput::oid), (t.typoutput::oid), (t.typreceive::oid), (t.typsend::oid),
  (t.typmodin::oid), (t.typmodout::oid), (t.typanalyze::oid)) AS f (id)
WHERE t.oid = ANY (%(oids)s::oid[]) AND f.id >= 16384
UNION SELECT f.id FROM pg_range r, LATERAL (VALUES (r.rngcanonical::oid), (r.rngsubdiff::oid)) AS f (id)
WHERE r.rngtypid = ANY (%(oids)s::oid[]) AND f.id <> 0
UNION SELECT s.amproc::oid FROM pg_opclass c JOIN pg_amproc s ON s.amprocfamily = c.opcfamily
WHERE c.opcintype = ANY (%(oids)s::oid[]) AND s.amproc::oid >= 16384
UNION SELECT o.oprcode::oid FROM pg_opclass c JOIN pg_amop m ON m.amopfamily = c.opcfamily JOIN pg_operator o ON o.oid = m.amopopr
WHERE c.opcintype = ANY (%(oids)s::oid[]) AND o.oprcode::oid >= 16384
"""
_INNER_TYPES = """
SELECT f.id FROM pg_type t LEFT JOIN pg_range r ON r.rngtypid = t.oid OR r.rngmultitypid = t.oid,
  LATERAL (VALUES (t.typbasetype), (t.typelem), (r.rngsubtype)) AS f (id)
WHERE t.oid = ANY (%(oids)s::oid[]) AND f.id >= 16384
UNION SELECT a.atttypid FROM pg_type t JOIN pg_attribute a ON a.attrelid = t.typrelid AND a.attnum > 0 AND NOT a.attisdropped
WHERE t.oid = ANY (%(oids)s::oid[]) AND t.typtype = 'c' AND a.atttypid >= 16384
"""
_DOMAIN_CHECKS = (
    "SELECT conbin::text FROM pg_constraint WHERE contypid = ANY (%(oids)s::oid[]) AND conbin IS "
    "NOT NULL"
)
# Foreign tables, and tables of which one is a part or a parent.
_RELATION_KINDS = """
SELECT c.oid, n.nspname, c.relname, c.relkind, s.srvname, w.fdwname FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
LEFT JOIN pg_foreign_table f ON f.ftrelid = c.oid LEFT JOIN pg_foreign_server s ON s.oid = f.ftserver
LEFT JOIN pg_foreign_data_wrapper w ON w.oid = s.srvfdw
WHERE c.oid = ANY (%(oids)s::oid[])
"""
_CHILDREN = "SELECT inhrelid FROM pg_inherits WHERE inhparent = ANY (%(oids)s::oid[])"
_READ_TREES = """
SELECT r.ev_action::text FROM pg_rewrite r WHERE r.ev_class = ANY (%(oids)s::oid[]) AND r.ev_type = '1'
UNION ALL SELECT q.tree FROM pg_policy p JOIN pg_class c ON c.oid = p.polrelid,
  LATERAL (VALUES (p.polqual::text), (p.polwithcheck::text)) AS q (tree)
WHERE c.oid = ANY (%(oids)s::oid[]) AND c.relrowsecurity AND q.tree IS NOT NULL
UNION ALL SELECT d.adbin::text FROM pg_attrdef d JOIN pg_attribute a ON a.attrelid = d.adrelid AND a.attnum = d.adnum
WHERE d.adrelid = ANY (%(oids)s::oid[]) AND a.attgenerated = 'v'
"""
_WRITE_TREES = """
SELECT r.ev_action::text || r.ev_qual::text FROM pg_rewrite r WHERE r.ev_class = ANY (%(oids)s::oid[]) AND r.ev_type <> '1'
UNION ALL SELECT d.adbin::text FROM pg_attrdef d WHERE d.adrelid = ANY (%(oids)s::oid[])
"""
# The planner folds what is constant in them; what takes a column's value is not run before the
# statement itself is.
_FOLDED_TREES = """
SELECT x.tree FROM pg_index i, LATERAL (VALUES (i.indexprs::text), (i.indpred::text)) AS x (tree)
WHERE i.indrelid = ANY (%(oids)s::oid[]) AND x.tree IS NOT NULL
UNION ALL SELECT conbin::text FROM pg_constraint WHERE conrelid = ANY (%(oids)s::oid[]) AND conbin IS NOT NULL
UNION ALL SELECT stxexprs::text FROM pg_statistic_ext WHERE stxrelid = ANY (%(oids)s::oid[]) AND stxexprs IS NOT NULL
UNION ALL SELECT partexprs::text FROM pg_partitioned_table WHERE partrelid = ANY (%(oids)s::oid[]) AND partexprs IS NOT NULL
UNION ALL SELECT relpartbound::text FROM pg_class WHERE oid = ANY (%(oids)s::oid[]) AND relpartbound IS NOT NULL
"""
_COLUMN_TYPES = """
SELECT atttypid FROM pg_attribute WHERE attrelid = ANY (%(oids)s::oid[]) AND attnum > 0 AND NOT attisdropped AND atttypid >= 16384
"""
_INDEX_TREES = """
SELECT x.tree FROM pg_index i, LATERAL (VALUES (i.indexprs::text), (i.indpred::text)) AS x (tree)
WHERE i.indrelid = ANY (%(oids)s::oid[]) AND x.tree IS NOT NULL
"""
_INDEX_CLASSES = """
SELECT s.amproc::oid FROM pg_index i, LATERAL unnest(i.indclass::oid[]) AS u (id) JOIN pg_opclass c ON c.oid = u.id
JOIN pg_amproc s ON s.amprocfamily = c.opcfamily WHERE i.indrelid = ANY (%(oids)s::oid[]) AND s.amproc::oid >= 16384
"""
EVENT_TRIGGERS = """
SELECT evtname FROM pg_event_trigger WHERE evtenabled <> 'D' AND evtevent IN ('ddl_command_start', 'ddl_command_end', 'sql_drop')
"""
# Routines that a statement can call: not those of triggers.
_CALLABLE = """
SELECT p.oid FROM pg_proc p WHERE p.oid >= 16384 AND p.prokind <> 'p'
AND p.prorettype NOT IN ('trigger'::regtype, 'event_trigger'::regtype)
"""
_CLASSES_BY_NAME = """
SELECT s.amproc::oid FROM pg_opclass c JOIN pg_amproc s ON s.amprocfamily = c.opcfamily
WHERE c.opcname = ANY (%(names)s) AND s.amproc::oid >= 16384
UNION SELECT amhandler::oid FROM pg_am WHERE amname = ANY (%(names)s) AND amhandler::oid >= 16384
"""


class Dependencies:
    """What runs where some trees are evaluated, found in the catalogs seen by `connection`.

    With `runs` false they are only planned. A planner evaluates no call of a volatile function;
    what is after an operator, a type or an aggregate it may run on values of its statistics.
    """

    def __init__(self, connection: Connection, runs: bool = True) -> None:
        self._connection = connection
        self._runs = runs
        kinds = ("call", "function", "operator", "relation", "type")
        self._seen: dict[str, set[int]] = {kind: set() for kind in kinds}
        self._new: dict[str, set[int]] = {kind: set() for kind in self._seen}
        self._writes = False
        self.routines: list[Routine] = []

    def add_tree(self, tree: str) -> None:
        """All that a tree names."""
        self._writes = self._writes or _WRITES.search(tree) is not None
        self._note("call", map(int, _CALLS.findall(tree)))
        self._note("function", map(int, _FUNCTIONS.findall(_CALLS.sub("", tree))))
        self._note("operator", map(int, _OPERATORS.findall(tree)))
        self._note(
            "operator", (int(oid) for some in _OPERATOR_LISTS.findall(tree) for oid in some.split())
        )
        self._note("relation", map(int, _RELATIONS.findall(tree)))
        self._note(
            "type", (oid for oid in map(int, _TYPES.findall(tree)) if oid >= _FIRST_USER_OID)
        )

    def add_types(self, oids: Iterable[int]) -> None:
        """Types by their numbers."""
        self._note("type", oids)

    def add_copies(self, relations: Sequence[int]) -> None:
        """What runs where the rows of tables are put into copies with the same types and
        indexes.
        """
        self._note("type", self._numbers(_COLUMN_TYPES, relations))
        self._note("function", self._numbers(_INDEX_CLASSES, relations))
        for tree in self._texts(_INDEX_TREES, relations):
            self.add_tree(tree)

    def add_classes(self, names: Sequence[str]) -> None:
        """Operator classes and access methods by their names."""
        rows = self._connection.exec_driver_sql(_CLASSES_BY_NAME, {"names": list(names)})
        self._note("function", (int(row[0]) for row in rows))

    def add_named(self, names: Sequence[str]) -> None:
        """Functions of these names, in whatever schema they are."""
        rows = self._connection.exec_driver_sql(
            "SELECT oid FROM pg_proc WHERE proname = ANY (%s)", (list(names),)
        )
        self._note("function", (int(row[0]) for row in rows))

    def add_callable(self) -> None:
        """Every routine that any statement could call."""
        self._note("function", (int(row[0]) for row in self._connection.exec_driver_sql(_CALLABLE)))

    def follow(self, trusted: Iterable[str]) -> list[Routine]:
        """Every routine that is not known to be harmless. What `trusted` names is not looked
        into.
        """
        names = set(trusted)
        while any(self._new.values()):
            relations, self._new["relation"] = sorted(self._new["relation"]), set()
            types, self._new["type"] = sorted(self._new["type"]), set()
            operators, self._new["operator"] = sorted(self._new["operator"]), set()
            functions, self._new["function"] = sorted(self._new["function"]), set()
            calls, self._new["call"] = sorted(self._new["call"]), set()
            if relations:
                self._relations(relations, names)
            if types:
                self._note("function", self._numbers(_TYPE_FUNCTIONS, types))
                self._note("type", self._numbers(_INNER_TYPES, types))
                for tree in self._texts(_DOMAIN_CHECKS, types):
                    self.add_tree(tree)
            if operators:
                self._note("function", self._numbers(_OPERATOR_FUNCTIONS, operators))
            if functions:
                self._functions(functions, names)
            if calls:
                self._functions(calls, names, called=True)
        return list(dict.fromkeys(self.routines))

    def _note(self, kind: str, oids: Iterable[int]) -> None:
        fresh = {oid for oid in oids if oid} - self._seen[kind]
        self._seen[kind] |= fresh
        self._new[kind] |= fresh

    def _rows(self, sql: str, oids: Sequence[int]) -> Sequence[Any]:
        return self._connection.exec_driver_sql(sql, {"oids": list(oids)}).all()

    def _numbers(self, sql: str, oids: Sequence[int]) -> list[int]:
        return [int(row[0]) for row in self._rows(sql, oids)]

    def _texts(self, sql: str, oids: Sequence[int]) -> list[str]:
        return [str(row[0]) for row in self._rows(sql, oids)]

    def _relations(self, oids: Sequence[int], trusted: set[str]) -> None:
        for _, schema, name, kind, server, wrapper in self._rows(_RELATION_KINDS, oids):
            if kind == "f" and not {name, f"{schema}.{name}"} & trusted:
                what = (
                    f"a foreign table of the server {server} ({wrapper}); its effects there are "
                    "unknown"
                )
                self.routines.append(Routine(f"{schema}.{name}", what))
        self._note("relation", self._numbers(_CHILDREN, oids))
        trees = self._texts(_READ_TREES, oids)
        if self._writes:
            trees += self._texts(_WRITE_TREES, oids)
        for tree in trees:
            self.add_tree(tree)
        for tree in self._texts(_FOLDED_TREES, oids):
            for node in constant_nodes(tree):
                self.add_tree(node)

    def _functions(self, oids: Sequence[int], trusted: set[str], called: bool = False) -> None:
        for (
            oid,
            name,
            schema,
            volatility,
            language,
            extension,
            states,
            sort,
        ) in self._connection.exec_driver_sql(_ROUTINES, (list(oids),)).all():
            if trusted & {name, f"{schema}.{name}", extension}:
                continue
            # The body of a function in SQL is put in the place of its call, and what is constant in
            # it is evaluated.
            if called and not self._runs and volatility == "v" and language != "sql":
                continue
            if states:  # an aggregate has no code of its own
                self._note("function", map(int, states))
                self._note("operator", [int(sort)])
                continue
            reason = _doubt(int(oid), name, volatility, language, extension)
            if reason:
                self.routines.append(
                    Routine(name if schema == "pg_catalog" else f"{schema}.{name}", reason)
                )


class Inspection:
    """One transaction in which the server parses statements; anyone who opened it rolls it back.

    Where the role may not make a temporary function, or something would fire, the server can't be
    asked what a statement runs. Then every routine of the database counts that a statement could
    call.
    """

    def __init__(self, connection: Connection, version: int) -> None:
        self._connection = connection
        self._version = version

    def routines_of(
        self, query: DriverQuery, trusted: Iterable[str], runs: bool, types: Sequence[str] = ()
    ) -> list[Routine]:
        """What a statement runs that is not known to be harmless; with `runs` false, what planning
        it runs.
        """
        dependencies = Dependencies(self._connection, runs)
        reason = self._add(dependencies, query, types, trusted)
        return [_unread(routine, reason) for routine in dependencies.follow(trusted)]

    def routines_of_index(self, ddl: str, trusted: Iterable[str]) -> list[Routine]:
        """What building an index runs that is not known to be harmless."""
        dependencies = Dependencies(self._connection)
        select, classes = index_parts(ddl, "postgresql")
        text = select.replace("%", "%%")
        reason = self._add(dependencies, DriverQuery(text, (), select, "postgresql"), (), trusted)
        dependencies.add_classes(classes)
        dependencies.add_named(functions_in(ddl, "postgresql"))
        return [
            *self._event_triggers(trusted),
            *(_unread(r, reason) for r in dependencies.follow(trusted)),
        ]

    def routines_of_copies(self, tables: Sequence[str], trusted: Iterable[str]) -> list[Routine]:
        """What copying tables runs that is not known to be harmless."""
        dependencies = Dependencies(self._connection)
        rows = self._connection.exec_driver_sql(_TABLES, (list(tables),)).all()
        dependencies.add_copies([int(row[0]) for row in rows])
        return [*self._event_triggers(trusted), *dependencies.follow(trusted)]

    def _event_triggers(self, trusted: Iterable[str]) -> list[Routine]:
        names = (str(row[0]) for row in self._connection.exec_driver_sql(EVENT_TRIGGERS).all())
        reason = "an event trigger, which fires when something is created"
        return [Routine(name, reason) for name in names if name not in set(trusted)]

    def _add(
        self,
        dependencies: Dependencies,
        query: DriverQuery,
        types: Sequence[str],
        trusted: Iterable[str],
    ) -> str:
        """Add what a statement names; why it can't be known, '' where it is."""
        text = self._written(query)
        try:
            if self._connection.exec_driver_sql(EVENT_TRIGGERS).all():
                reason = "an event trigger would fire"
            else:
                reason = self._checked_by_parsing(text, types, trusted)
                if not reason:
                    dependencies.add_tree(self._tree(text, types))
                    return ""
        except DBAPIError as error:
            if getattr(error.orig, "sqlstate", "") not in _MAY_NOT:
                raise
            reason = str(error.orig).splitlines()[0]
        dependencies.add_callable()
        return reason

    def _checked_by_parsing(self, text: str, types: Sequence[str], trusted: Iterable[str]) -> str:
        """Why a statement can't even be parsed without running something; '' where it can.

        The server turns a literal into a composite type, an array or a range while it parses, and
        checks the domains in them. So where a domain is checked by a routine that is not known, the
        statement is parsed without its literals first: they are NULL then, and the tree tells their
        types.
        """
        checked = self._checked_domains(trusted)
        if not checked:
            return ""
        try:
            tree = self._tree(_without_literals(text), types)
        except DBAPIError:
            return "a literal may be checked by a domain while the statement is parsed"
        literals = {int(oid) for oid in _CONSTANT_TYPES.findall(tree)}
        for oid in literals:
            if oid not in checked and checked & self._inner_types(oid):
                return "a literal is checked by a domain while the statement is parsed"
        return ""

    def _checked_domains(self, trusted: Iterable[str]) -> set[int]:
        """The domains whose checks run a routine that is not known to be harmless."""
        results = set()
        for oid in self._connection.exec_driver_sql(_DOMAINS_WITH_CHECKS).scalars().all():
            dependencies = Dependencies(self._connection)
            dependencies.add_types([int(oid)])
            if dependencies.follow(trusted):
                results.add(int(oid))
        return results

    def _inner_types(self, oid: int) -> set[int]:
        """The types that a value of a type is made of."""
        results: set[int] = set()
        fresh = {oid}
        while fresh:
            results |= fresh
            rows = self._connection.exec_driver_sql(_INNER_TYPES, {"oids": sorted(fresh)})
            fresh = {int(row[0]) for row in rows} - results
        return results

    def _written(self, query: DriverQuery) -> str:
        """The text of a query with its values as literals."""
        raw: Any = self._connection.connection.driver_connection
        text: str = raw.cursor().mogrify(query.sql, query.arguments)
        return text

    def _tree(self, text: str, types: Sequence[str]) -> str:
        """The server's tree of a statement."""
        text = text.replace("%", "%%")
        run = self._connection.exec_driver_sql
        with self._connection.begin_nested() as savepoint:
            if self._version >= 140000:
                head = (
                    f"CREATE FUNCTION pg_temp.askless_parsed({', '.join(types)}) RETURNS void "
                    "LANGUAGE sql BEGIN ATOMIC "
                )
                run("SET LOCAL check_function_bodies = off")
                run(f"{head}{text}\n; END")
            elif types:  # a rule has no parameters
                raise _no_generic_plan()
            else:
                run("CREATE TEMPORARY TABLE askless_parsed ()")
                run(
                    "CREATE RULE askless_parsed AS ON INSERT TO pg_temp.askless_parsed DO ALSO "
                    f"{text}"
                )
            tree = str(
                run(_PARSED_FUNCTION if self._version >= 140000 else _PARSED_RULE).scalar_one()
            )
            savepoint.rollback()
        return tree


_PARSED_FUNCTION = (
    "SELECT prosqlbody::text FROM pg_proc WHERE proname = 'askless_parsed' AND pronamespace = "
    "pg_my_temp_schema()"
)
_PARSED_RULE = (
    "SELECT ev_action::text FROM pg_rewrite WHERE ev_class = 'pg_temp.askless_parsed'::regclass"
)
_DOMAINS_WITH_CHECKS = (
    "SELECT DISTINCT contypid FROM pg_constraint WHERE contypid <> 0 AND conbin IS NOT NULL"
)
_CONSTANT_TYPES = re.compile(r":consttype (\d+)")
# read_only_sql_transaction (a standby), insufficient_privilege, feature_not_supported
_MAY_NOT = ("25006", "42501", "0A000")
_TABLES = (
    "SELECT oid FROM pg_class WHERE relname = ANY (%s) AND pg_table_is_visible(oid) AND relkind "
    "IN ('r', 'p', 'm')"
)


def _without_literals(text: str) -> str:
    """A statement with NULL in the place of each string."""
    pieces: list[str] = []
    start = 0
    for token in tokens(text, "postgresql"):
        if token.kind == "literal" and not token.text[:1].isdigit() and token.text[:1] not in ".":
            pieces += [text[start : token.start], " NULL "]
            start = token.end
    return "".join(pieces) + text[start:]


def _no_generic_plan() -> AskLessError:
    return AskLessError(
        "not-plannable",
        "before PostgreSQL 14, a prepared statement's functions can't be determined",
        "see the plan for the values",
    )


def _unread(routine: Routine, reason: str) -> Routine:
    if not reason:
        return routine
    return Routine(
        routine.name,
        f"{routine.reason}, or may run it: the server can't report what the statement runs "
        f"({reason})",
    )


def _doubt(oid: int, name: str, volatility: str, language: str, extension: str | None) -> str:
    """Why a function may do more than compute; '' where it is known to be harmless."""
    if oid < _FIRST_USER_OID and language in ("internal", "c", "sql"):
        if _HARMFUL.match(name):
            return "which runs a query of its own or changes the server's state"
        if volatility == "v" and name not in _HARMLESS:
            return "which is volatile and may have effects outside of its transaction"
        return ""
    if extension is None:
        return f"a routine of this database, written in {language}; its effects are unknown"
    if extension not in _HARMLESS_EXTENSIONS or _HARMFUL_IN_EXTENSIONS.match(name):
        return f"of the extension {extension}, which is not on the list of safe extensions"
    return ""


def constant_nodes(tree: str) -> list[str]:
    """The nodes of a tree, as text, that name a function or an operator and hold no column: what a
    planner may fold.
    """
    results = []
    starts: list[int] = []
    for match in re.finditer(r"\\.|[{}]", tree):
        if match[0] == "{":
            starts.append(match.start())
        elif match[0] == "}" and starts:
            node = tree[starts.pop() : match.end()]
            calls = _FUNCTIONS.search(node) or _OPERATORS.search(node)
            if calls and "{VAR " not in node:
                results.append(node)
    return results
