//! The statements that read a catalog, and their rows. Each has a text for each engine and the same columns.
//!
//! SQLite: "PRAGMA Functions" and "The Schema Table"; PostgreSQL: "System Catalogs"; MariaDB: "Information Schema".

use nepheline::prelude::*;
use nepheline::{Array, StatementRows, statement};

#[derive(Debug, Clone, RowShape)]
pub(crate) struct TableRow {
    pub(crate) schema: Option<String>,
    pub(crate) name: String,
    pub(crate) is_view: bool,
    pub(crate) comment: Option<String>,
    pub(crate) estimated_rows: Option<i64>,
    /// The text that made it, of SQLite.
    pub(crate) declared: Option<String>,
}

#[derive(Debug, Clone, RowShape)]
pub(crate) struct ColumnRow {
    pub(crate) schema: Option<String>,
    pub(crate) table_name: String,
    pub(crate) name: String,
    pub(crate) database_type: String,
    pub(crate) enum_name: Option<String>,
    pub(crate) nullable: bool,
    pub(crate) default_value: Option<String>,
    pub(crate) made: String,
    pub(crate) collation: Option<String>,
    pub(crate) is_nondeterministic: bool,
    pub(crate) comment: Option<String>,
}

#[derive(Debug, Clone, RowShape)]
pub(crate) struct IndexRow {
    pub(crate) schema: Option<String>,
    pub(crate) table_name: String,
    pub(crate) name: String,
    pub(crate) is_key: bool,
    pub(crate) is_unique: bool,
    pub(crate) column: String,
    pub(crate) condition: Option<String>,
}

#[derive(Debug, Clone, RowShape)]
pub(crate) struct ReferenceRow {
    pub(crate) schema: Option<String>,
    pub(crate) table_name: String,
    pub(crate) name: Option<String>,
    /// The place within the reference, from 0.
    pub(crate) place: i64,
    pub(crate) column: String,
    pub(crate) target_schema: Option<String>,
    pub(crate) target: String,
    pub(crate) target_column: Option<String>,
    pub(crate) on_delete: String,
    pub(crate) on_update: String,
}

#[derive(Debug, Clone, RowShape)]
pub(crate) struct CheckRow {
    pub(crate) schema: Option<String>,
    pub(crate) table_name: String,
    pub(crate) name: String,
    pub(crate) condition: String,
}

#[derive(Debug, Clone, RowShape)]
pub(crate) struct EnumRow {
    pub(crate) schema: Option<String>,
    pub(crate) name: String,
    pub(crate) value: String,
}

#[derive(Debug, Clone, RowShape)]
pub(crate) struct RoutineRow {
    pub(crate) schema: Option<String>,
    pub(crate) name: String,
    pub(crate) is_procedure: bool,
    pub(crate) arguments: String,
    pub(crate) returns: Option<String>,
}

/// The statements of a catalog, for some schemas; for none of them, that of the session.
pub(crate) struct Queries {
    pub(crate) tables: StatementRows<TableRow>,
    pub(crate) columns: StatementRows<ColumnRow>,
    pub(crate) indexes: StatementRows<IndexRow>,
    pub(crate) references: StatementRows<ReferenceRow>,
    pub(crate) checks: StatementRows<CheckRow>,
    pub(crate) enums: StatementRows<EnumRow>,
    pub(crate) routines: StatementRows<RoutineRow>,
}

impl Queries {
    pub(crate) fn of(schemas: &[&str]) -> Queries {
        let schemas: Array<String> = schemas.iter().map(|schema| (*schema).to_owned()).collect();
        Queries {
            tables: tables(schemas.clone()),
            columns: columns(schemas.clone()),
            indexes: indexes(schemas.clone()),
            references: references(schemas.clone()),
            checks: checks(schemas.clone()),
            enums: enums(schemas.clone()),
            routines: routines(schemas),
        }
    }
}

fn tables(schemas: Array<String>) -> StatementRows<TableRow> {
    statement!(
        sqlite: "SELECT NULL AS \"schema\", name, type = 'view' AS is_view, NULL AS comment, NULL AS estimated_rows, \
                 CASE type WHEN 'table' THEN sql END AS declared FROM sqlite_schema WHERE type IN ('table', 'view') AND name NOT LIKE 'sqlite!_%' ESCAPE '!' \
                 AND {schemas} IS NOT NULL ORDER BY name",
        postgres: "SELECT n.nspname AS schema, c.relname AS name, c.relkind IN ('v', 'm') AS is_view, \
                   obj_description(c.oid, 'pg_class') AS comment, c.reltuples::int8 AS estimated_rows, NULL::text AS declared \
                   FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace \
                   WHERE c.relkind IN ('r', 'p', 'v', 'm', 'f') AND NOT c.relispartition \
                   AND (n.nspname = ANY({schemas}) OR cardinality({schemas}) = 0 AND n.nspname = current_schema()) \
                   ORDER BY n.nspname, c.relname COLLATE \"C\"",
        mysql: "SELECT t.TABLE_SCHEMA AS `schema`, t.TABLE_NAME AS name, t.TABLE_TYPE = 'VIEW' AS is_view, \
                CASE t.TABLE_TYPE WHEN 'VIEW' THEN NULL ELSE t.TABLE_COMMENT END AS comment, \
                CAST(t.TABLE_ROWS AS SIGNED) AS estimated_rows, NULL AS declared FROM information_schema.TABLES t \
                WHERE t.TABLE_TYPE IN ('BASE TABLE', 'VIEW') AND (JSON_CONTAINS({schemas}, JSON_QUOTE(t.TABLE_SCHEMA)) \
                OR JSON_LENGTH({schemas}) = 0 AND t.TABLE_SCHEMA = DATABASE()) ORDER BY t.TABLE_SCHEMA, t.TABLE_NAME",
        schemas = schemas
    )
    .outside_policies()
    .rows_as()
}

fn columns(schemas: Array<String>) -> StatementRows<ColumnRow> {
    statement!(
        // The key of SQLite's rows gets a number by itself if it is declared INTEGER PRIMARY KEY ("Rowid Tables").
        sqlite: "SELECT NULL AS \"schema\", m.name AS table_name, c.name, c.type AS database_type, NULL AS enum_name, \
                 c.\"notnull\" = 0 AND c.pk = 0 AS nullable, c.dflt_value AS default_value, \
                 CASE WHEN c.hidden IN (2, 3) THEN 'computed' WHEN c.pk = 1 AND upper(c.type) = 'INTEGER' \
                 AND (SELECT count(*) FROM pragma_table_xinfo(m.name) k WHERE k.pk > 0) = 1 THEN 'identity' ELSE '' END AS made, \
                 NULL AS collation, FALSE AS is_nondeterministic, NULL AS comment \
                 FROM sqlite_schema m JOIN pragma_table_xinfo(m.name) c WHERE m.type IN ('table', 'view') \
                 AND m.name NOT LIKE 'sqlite!_%' ESCAPE '!' AND c.hidden <> 1 AND {schemas} IS NOT NULL \
                 ORDER BY m.name, c.cid",
        postgres: "SELECT n.nspname AS schema, c.relname AS table_name, a.attname AS name, \
                   format_type(COALESCE(NULLIF(t.typbasetype, 0), a.atttypid), \
                   CASE WHEN t.typtype = 'd' THEN t.typtypmod ELSE a.atttypmod END) AS database_type, \
                   CASE WHEN t.typtype = 'e' THEN t.typname END AS enum_name, NOT a.attnotnull AS nullable, \
                   pg_get_expr(d.adbin, d.adrelid) AS default_value, \
                   CASE WHEN a.attgenerated <> '' THEN 'computed' \
                   WHEN a.attidentity <> '' OR pg_get_expr(d.adbin, d.adrelid) LIKE 'nextval(%' THEN 'identity' \
                   ELSE '' END AS made, \
                   CASE WHEN l.collname <> 'default' THEN l.collname END AS collation, \
                   COALESCE(NOT l.collisdeterministic, FALSE) AS is_nondeterministic, \
                   col_description(c.oid, a.attnum) AS comment \
                   FROM pg_attribute a JOIN pg_class c ON c.oid = a.attrelid \
                   JOIN pg_namespace n ON n.oid = c.relnamespace JOIN pg_type t ON t.oid = a.atttypid \
                   LEFT JOIN pg_attrdef d ON d.adrelid = a.attrelid AND d.adnum = a.attnum \
                   LEFT JOIN pg_collation l ON l.oid = a.attcollation \
                   WHERE c.relkind IN ('r', 'p', 'v', 'm', 'f') AND NOT c.relispartition AND a.attnum > 0 \
                   AND NOT a.attisdropped \
                   AND (n.nspname = ANY({schemas}) OR cardinality({schemas}) = 0 AND n.nspname = current_schema()) \
                   ORDER BY n.nspname, c.relname COLLATE \"C\", a.attnum",
        mysql: "SELECT c.TABLE_SCHEMA AS `schema`, c.TABLE_NAME AS table_name, c.COLUMN_NAME AS name, \
                c.COLUMN_TYPE AS database_type, NULL AS enum_name, c.IS_NULLABLE = 'YES' AS nullable, \
                CASE c.COLUMN_DEFAULT WHEN 'NULL' THEN NULL ELSE c.COLUMN_DEFAULT END AS default_value, \
                CASE WHEN c.EXTRA LIKE '%auto_increment%' THEN 'identity' WHEN c.GENERATION_EXPRESSION <> '' THEN 'computed' \
                ELSE '' END AS made, c.COLLATION_NAME AS collation, FALSE AS is_nondeterministic, \
                c.COLUMN_COMMENT AS comment FROM information_schema.COLUMNS c \
                WHERE (JSON_CONTAINS({schemas}, JSON_QUOTE(c.TABLE_SCHEMA)) \
                OR JSON_LENGTH({schemas}) = 0 AND c.TABLE_SCHEMA = DATABASE()) \
                ORDER BY c.TABLE_SCHEMA, c.TABLE_NAME, c.ORDINAL_POSITION",
        schemas = schemas
    )
    .outside_policies()
    .rows_as()
}

fn indexes(schemas: Array<String>) -> StatementRows<IndexRow> {
    statement!(
        // The key of a table of rows with a number has no index.
        sqlite: "SELECT \"schema\", table_name, name, is_key, is_unique, \"column\", condition FROM ( \
                 SELECT NULL AS \"schema\", m.name AS table_name, '' AS name, TRUE AS is_key, TRUE AS is_unique, \
                 c.name AS \"column\", NULL AS condition, c.pk AS place FROM sqlite_schema m JOIN pragma_table_xinfo(m.name) c \
                 WHERE m.type = 'table' AND m.name NOT LIKE 'sqlite!_%' ESCAPE '!' AND c.pk > 0 AND {schemas} IS NOT NULL \
                 UNION ALL SELECT NULL, m.name, i.name, FALSE, i.\"unique\", COALESCE(x.name, '(expression)'), \
                 CASE WHEN i.partial THEN trim(substr(s.sql, instr(upper(s.sql), ' WHERE ') + 7)) END, x.seqno \
                 FROM sqlite_schema m JOIN pragma_index_list(m.name) i JOIN pragma_index_info(i.name) x \
                 LEFT JOIN sqlite_schema s ON s.type = 'index' AND s.name = i.name \
                 WHERE m.type = 'table' AND m.name NOT LIKE 'sqlite!_%' ESCAPE '!' AND i.origin <> 'pk') \
                 ORDER BY table_name, is_key DESC, name, place",
        postgres: "SELECT n.nspname AS schema, c.relname AS table_name, ic.relname AS name, i.indisprimary AS is_key, \
                   i.indisunique AS is_unique, COALESCE(a.attname, pg_get_indexdef(i.indexrelid, k.place, TRUE)) AS column, \
                   pg_get_expr(i.indpred, i.indrelid) AS condition \
                   FROM pg_index i JOIN pg_class c ON c.oid = i.indrelid JOIN pg_class ic ON ic.oid = i.indexrelid \
                   JOIN pg_namespace n ON n.oid = c.relnamespace CROSS JOIN generate_series(1, i.indnkeyatts) AS k(place) \
                   LEFT JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum = i.indkey[k.place - 1] AND a.attnum > 0 \
                   WHERE c.relkind IN ('r', 'p', 'm') AND NOT c.relispartition \
                   AND (n.nspname = ANY({schemas}) OR cardinality({schemas}) = 0 AND n.nspname = current_schema()) \
                   ORDER BY n.nspname, c.relname COLLATE \"C\", i.indisprimary DESC, ic.relname COLLATE \"C\", k.place",
        mysql: "SELECT s.TABLE_SCHEMA AS `schema`, s.TABLE_NAME AS table_name, s.INDEX_NAME AS name, \
                s.INDEX_NAME = 'PRIMARY' AS is_key, s.NON_UNIQUE = 0 AS is_unique, \
                COALESCE(s.COLUMN_NAME, '(expression)') AS `column`, NULL AS `condition` FROM information_schema.STATISTICS s \
                WHERE (JSON_CONTAINS({schemas}, JSON_QUOTE(s.TABLE_SCHEMA)) \
                OR JSON_LENGTH({schemas}) = 0 AND s.TABLE_SCHEMA = DATABASE()) \
                ORDER BY s.TABLE_SCHEMA, s.TABLE_NAME, s.INDEX_NAME = 'PRIMARY' DESC, s.INDEX_NAME, s.SEQ_IN_INDEX",
        schemas = schemas
    )
    .outside_policies()
    .rows_as()
}

fn references(schemas: Array<String>) -> StatementRows<ReferenceRow> {
    statement!(
        sqlite: "SELECT NULL AS \"schema\", m.name AS table_name, NULL AS name, f.seq AS place, f.\"from\" AS \"column\", \
                 NULL AS target_schema, f.\"table\" AS target, f.\"to\" AS target_column, f.on_delete, f.on_update \
                 FROM sqlite_schema m JOIN pragma_foreign_key_list(m.name) f WHERE m.type = 'table' \
                 AND {schemas} IS NOT NULL ORDER BY m.name, f.id DESC, f.seq",
        postgres: "SELECT n.nspname AS schema, c.relname AS table_name, o.conname AS name, (k.place - 1)::int8 AS place, \
                   a.attname AS column, tn.nspname AS target_schema, tc.relname AS target, ta.attname AS target_column, \
                   CASE o.confdeltype WHEN 'c' THEN 'CASCADE' WHEN 'n' THEN 'SET NULL' WHEN 'd' THEN 'SET DEFAULT' \
                   WHEN 'r' THEN 'RESTRICT' ELSE 'NO ACTION' END AS on_delete, \
                   CASE o.confupdtype WHEN 'c' THEN 'CASCADE' WHEN 'n' THEN 'SET NULL' WHEN 'd' THEN 'SET DEFAULT' \
                   WHEN 'r' THEN 'RESTRICT' ELSE 'NO ACTION' END AS on_update \
                   FROM pg_constraint o JOIN pg_class c ON c.oid = o.conrelid JOIN pg_namespace n ON n.oid = c.relnamespace \
                   JOIN pg_class tc ON tc.oid = o.confrelid JOIN pg_namespace tn ON tn.oid = tc.relnamespace \
                   CROSS JOIN unnest(o.conkey, o.confkey) WITH ORDINALITY AS k(own, target, place) \
                   JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum = k.own \
                   JOIN pg_attribute ta ON ta.attrelid = tc.oid AND ta.attnum = k.target \
                   WHERE o.contype = 'f' AND o.conparentid = 0 \
                   AND (n.nspname = ANY({schemas}) OR cardinality({schemas}) = 0 AND n.nspname = current_schema()) \
                   ORDER BY n.nspname, c.relname COLLATE \"C\", min(a.attnum) OVER (PARTITION BY o.oid), \
                   o.conname COLLATE \"C\", k.place",
        mysql: "SELECT k.TABLE_SCHEMA AS `schema`, k.TABLE_NAME AS table_name, k.CONSTRAINT_NAME AS name, \
                CAST(k.ORDINAL_POSITION - 1 AS SIGNED) AS place, k.COLUMN_NAME AS `column`, \
                k.REFERENCED_TABLE_SCHEMA AS target_schema, k.REFERENCED_TABLE_NAME AS target, \
                k.REFERENCED_COLUMN_NAME AS target_column, r.DELETE_RULE AS on_delete, r.UPDATE_RULE AS on_update \
                FROM information_schema.KEY_COLUMN_USAGE k JOIN information_schema.REFERENTIAL_CONSTRAINTS r \
                ON r.CONSTRAINT_SCHEMA = k.CONSTRAINT_SCHEMA AND r.CONSTRAINT_NAME = k.CONSTRAINT_NAME \
                AND r.TABLE_NAME = k.TABLE_NAME WHERE k.REFERENCED_TABLE_NAME IS NOT NULL \
                AND (JSON_CONTAINS({schemas}, JSON_QUOTE(k.TABLE_SCHEMA)) \
                OR JSON_LENGTH({schemas}) = 0 AND k.TABLE_SCHEMA = DATABASE()) \
                ORDER BY k.TABLE_SCHEMA, k.TABLE_NAME, k.CONSTRAINT_NAME, k.ORDINAL_POSITION",
        schemas = schemas
    )
    .outside_policies()
    .rows_as()
}

fn checks(schemas: Array<String>) -> StatementRows<CheckRow> {
    statement!(
        sqlite: "SELECT NULL AS \"schema\", '' AS table_name, '' AS name, '' AS condition WHERE {schemas} IS NULL",
        postgres: "SELECT n.nspname AS schema, c.relname AS table_name, o.conname AS name, \
                   pg_get_expr(o.conbin, o.conrelid) AS condition \
                   FROM pg_constraint o JOIN pg_class c ON c.oid = o.conrelid JOIN pg_namespace n ON n.oid = c.relnamespace \
                   WHERE o.contype = 'c' \
                   AND (n.nspname = ANY({schemas}) OR cardinality({schemas}) = 0 AND n.nspname = current_schema()) \
                   ORDER BY n.nspname, c.relname COLLATE \"C\", o.conname COLLATE \"C\"",
        mariadb: "SELECT c.CONSTRAINT_SCHEMA AS `schema`, c.TABLE_NAME AS table_name, c.CONSTRAINT_NAME AS name, \
                  c.CHECK_CLAUSE AS `condition` FROM information_schema.CHECK_CONSTRAINTS c \
                  WHERE (JSON_CONTAINS({schemas}, JSON_QUOTE(c.CONSTRAINT_SCHEMA)) \
                  OR JSON_LENGTH({schemas}) = 0 AND c.CONSTRAINT_SCHEMA = DATABASE()) \
                  ORDER BY c.CONSTRAINT_SCHEMA, c.TABLE_NAME, c.CONSTRAINT_NAME",
        mysql: "SELECT t.TABLE_SCHEMA AS `schema`, t.TABLE_NAME AS table_name, c.CONSTRAINT_NAME AS name, \
                c.CHECK_CLAUSE AS `condition` FROM information_schema.CHECK_CONSTRAINTS c \
                JOIN information_schema.TABLE_CONSTRAINTS t ON t.CONSTRAINT_SCHEMA = c.CONSTRAINT_SCHEMA \
                AND t.CONSTRAINT_NAME = c.CONSTRAINT_NAME \
                WHERE (JSON_CONTAINS({schemas}, JSON_QUOTE(t.TABLE_SCHEMA)) \
                OR JSON_LENGTH({schemas}) = 0 AND t.TABLE_SCHEMA = DATABASE()) \
                ORDER BY t.TABLE_SCHEMA, t.TABLE_NAME, c.CONSTRAINT_NAME",
        schemas = schemas
    )
    .outside_policies()
    .rows_as()
}

fn enums(schemas: Array<String>) -> StatementRows<EnumRow> {
    statement!(
        sqlite: "SELECT NULL AS \"schema\", '' AS name, '' AS value WHERE {schemas} IS NULL",
        // A column may have a type of any schema.
        postgres: "SELECT n.nspname AS schema, t.typname AS name, e.enumlabel AS value FROM pg_enum e \
                   JOIN pg_type t ON t.oid = e.enumtypid JOIN pg_namespace n ON n.oid = t.typnamespace \
                   WHERE {schemas} IS NOT NULL ORDER BY n.nspname, t.typname COLLATE \"C\", e.enumsortorder",
        mysql: "SELECT NULL AS `schema`, '' AS name, '' AS value FROM DUAL WHERE {schemas} IS NULL",
        schemas = schemas
    )
    .outside_policies()
    .rows_as()
}

fn routines(schemas: Array<String>) -> StatementRows<RoutineRow> {
    statement!(
        sqlite: "SELECT NULL AS \"schema\", '' AS name, FALSE AS is_procedure, '' AS arguments, NULL AS returns \
                 WHERE {schemas} IS NULL",
        postgres: "SELECT n.nspname AS schema, p.proname AS name, p.prokind = 'p' AS is_procedure, \
                   pg_get_function_arguments(p.oid) AS arguments, \
                   CASE WHEN p.prokind <> 'p' THEN pg_get_function_result(p.oid) END AS returns \
                   FROM pg_proc p JOIN pg_namespace n ON n.oid = p.pronamespace WHERE p.prokind IN ('f', 'p') \
                   AND (n.nspname = ANY({schemas}) OR cardinality({schemas}) = 0 AND n.nspname = current_schema()) \
                   ORDER BY n.nspname, p.proname COLLATE \"C\", 4",
        mysql: "SELECT r.ROUTINE_SCHEMA AS `schema`, r.ROUTINE_NAME AS name, r.ROUTINE_TYPE = 'PROCEDURE' AS is_procedure, \
                COALESCE((SELECT GROUP_CONCAT(CONCAT_WS(' ', p.PARAMETER_MODE, p.PARAMETER_NAME, p.DTD_IDENTIFIER) \
                ORDER BY p.ORDINAL_POSITION SEPARATOR ', ') FROM information_schema.PARAMETERS p \
                WHERE p.SPECIFIC_SCHEMA = r.ROUTINE_SCHEMA AND p.SPECIFIC_NAME = r.SPECIFIC_NAME \
                AND p.ORDINAL_POSITION > 0), '') AS arguments, NULLIF(r.DTD_IDENTIFIER, '') AS returns \
                FROM information_schema.ROUTINES r WHERE (JSON_CONTAINS({schemas}, JSON_QUOTE(r.ROUTINE_SCHEMA)) \
                OR JSON_LENGTH({schemas}) = 0 AND r.ROUTINE_SCHEMA = DATABASE()) \
                ORDER BY r.ROUTINE_SCHEMA, r.ROUTINE_NAME",
        schemas = schemas
    )
    .outside_policies()
    .rows_as()
}
