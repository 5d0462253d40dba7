//! The reports as SQL written by hand, in two forms each. The faster of the two counts.
//!
//! The texts were written before ours were measured. They contain their constants, as the fastest texts do.

use nepheline::Dialect;

/// A report: its name, what it asks, and its two forms.
pub(crate) struct Report {
    pub(crate) name: &'static str,
    pub(crate) asks: &'static str,
    /// The number of keys in its list; 0 without a list.
    pub(crate) keys: i64,
    pub(crate) forms: [Text; 2],
}

/// One form of a report.
///
/// `{each}` stands for one placeholder for each key of the list, `{all}` for one placeholder of the whole list.
pub(crate) enum Text {
    Same(&'static str),
    Each { sqlite: &'static str, postgres: &'static str, mariadb: &'static str },
}

impl Text {
    pub(crate) fn of(&self, dialect: Dialect) -> &'static str {
        match (self, dialect) {
            (Text::Same(text), _) => text,
            (Text::Each { sqlite, .. }, Dialect::Sqlite) => sqlite,
            (Text::Each { postgres, .. }, Dialect::Postgres) => postgres,
            (Text::Each { mariadb, .. }, _) => mariadb,
        }
    }
}

const OF_KEYS: [Text; 2] = [
    Text::Same("SELECT count(*), sum(ppm) FROM assay WHERE specimen_id IN ({each})"),
    Text::Each {
        sqlite: "SELECT count(*), sum(ppm) FROM assay WHERE specimen_id IN (SELECT value FROM json_each({all}))",
        postgres: "SELECT count(*), sum(ppm) FROM assay WHERE specimen_id = ANY({all})",
        mariadb: "SELECT count(*), sum(ppm) FROM assay WHERE specimen_id IN (SELECT j.v FROM \
                  JSON_TABLE({all}, '$[*]' COLUMNS (v BIGINT PATH '$')) j)",
    },
];

pub(crate) const REPORTS: [Report; 22] = [
    Report {
        name: "star",
        asks: "the Nd assays of accredited labs since 2019, by region and rock",
        keys: 0,
        forms: [
            Text::Same(
                "SELECT si.region, sp.rock, count(*), avg(a.ppm) FROM assay a \
                 JOIN lab l ON l.id = a.lab_id JOIN specimen sp ON sp.id = a.specimen_id \
                 JOIN borehole b ON b.id = sp.borehole_id JOIN site si ON si.id = b.site_id \
                 WHERE a.element = 'Nd' AND l.accredited = TRUE AND sp.taken_on >= '2019-01-01' \
                 GROUP BY si.region, sp.rock ORDER BY si.region, sp.rock",
            ),
            Text::Each {
                sqlite: "SELECT si.region, x.rock, sum(x.n), sum(x.s) / sum(x.n) FROM \
                         (SELECT sp.borehole_id, sp.rock, count(*) AS n, sum(a.ppm) AS s FROM assay a \
                         JOIN specimen sp ON sp.id = a.specimen_id WHERE a.element = 'Nd' \
                         AND a.lab_id IN (SELECT id FROM lab WHERE accredited) AND sp.taken_on >= '2019-01-01' \
                         GROUP BY sp.borehole_id, sp.rock) x \
                         JOIN borehole b ON b.id = x.borehole_id JOIN site si ON si.id = b.site_id \
                         GROUP BY si.region, x.rock ORDER BY si.region, x.rock",
                postgres: "SELECT si.region, x.rock, sum(x.n)::int8, sum(x.s) / sum(x.n)::float8 FROM \
                           (SELECT sp.borehole_id, sp.rock, count(*) AS n, sum(a.ppm) AS s FROM assay a \
                           JOIN specimen sp ON sp.id = a.specimen_id WHERE a.element = 'Nd' \
                           AND a.lab_id IN (SELECT id FROM lab WHERE accredited) AND sp.taken_on >= '2019-01-01' \
                           GROUP BY sp.borehole_id, sp.rock) x \
                           JOIN borehole b ON b.id = x.borehole_id JOIN site si ON si.id = b.site_id \
                           GROUP BY si.region, x.rock ORDER BY si.region, x.rock",
                mariadb: "SELECT si.region, x.rock, sum(x.n), sum(x.s) / sum(x.n) FROM \
                          (SELECT sp.borehole_id, sp.rock, count(*) AS n, sum(a.ppm) AS s FROM assay a \
                          JOIN specimen sp ON sp.id = a.specimen_id WHERE a.element = 'Nd' \
                          AND a.lab_id IN (SELECT id FROM lab WHERE accredited) AND sp.taken_on >= '2019-01-01' \
                          GROUP BY sp.borehole_id, sp.rock) x \
                          JOIN borehole b ON b.id = x.borehole_id JOIN site si ON si.id = b.site_id \
                          GROUP BY si.region, x.rock ORDER BY si.region, x.rock",
            },
        ],
    },
    Report {
        name: "shares",
        asks: "the share in percent of each rock in its region",
        keys: 0,
        forms: [
            Text::Each {
                sqlite: "SELECT si.region, sp.rock, count(*), \
                         count(*) * 100 / sum(count(*)) OVER (PARTITION BY si.region) FROM specimen sp \
                         JOIN borehole b ON b.id = sp.borehole_id JOIN site si ON si.id = b.site_id \
                         GROUP BY si.region, sp.rock ORDER BY si.region, sp.rock",
                postgres: "SELECT si.region, sp.rock, count(*), \
                           count(*) * 100 / (sum(count(*)) OVER (PARTITION BY si.region))::int8 FROM specimen sp \
                           JOIN borehole b ON b.id = sp.borehole_id JOIN site si ON si.id = b.site_id \
                           GROUP BY si.region, sp.rock ORDER BY si.region, sp.rock",
                mariadb: "SELECT si.region, sp.rock, count(*), \
                          count(*) * 100 DIV sum(count(*)) OVER (PARTITION BY si.region) FROM specimen sp \
                          JOIN borehole b ON b.id = sp.borehole_id JOIN site si ON si.id = b.site_id \
                          GROUP BY si.region, sp.rock ORDER BY si.region, sp.rock",
            },
            Text::Each {
                sqlite: "WITH g AS (SELECT si.region, sp.rock, count(*) AS n FROM specimen sp \
                         JOIN borehole b ON b.id = sp.borehole_id JOIN site si ON si.id = b.site_id \
                         GROUP BY si.region, sp.rock), \
                         t AS (SELECT region, sum(n) AS n FROM g GROUP BY region) \
                         SELECT g.region, g.rock, g.n, g.n * 100 / t.n FROM g JOIN t ON t.region = g.region \
                         ORDER BY g.region, g.rock",
                postgres: "WITH g AS (SELECT si.region, sp.rock, count(*) AS n FROM specimen sp \
                           JOIN borehole b ON b.id = sp.borehole_id JOIN site si ON si.id = b.site_id \
                           GROUP BY si.region, sp.rock), \
                           t AS (SELECT region, sum(n)::int8 AS n FROM g GROUP BY region) \
                           SELECT g.region, g.rock, g.n, g.n * 100 / t.n FROM g JOIN t ON t.region = g.region \
                           ORDER BY g.region, g.rock",
                mariadb: "WITH g AS (SELECT si.region, sp.rock, count(*) AS n FROM specimen sp \
                          JOIN borehole b ON b.id = sp.borehole_id JOIN site si ON si.id = b.site_id \
                          GROUP BY si.region, sp.rock), \
                          t AS (SELECT region, sum(n) AS n FROM g GROUP BY region) \
                          SELECT g.region, g.rock, g.n, g.n * 100 DIV t.n FROM g JOIN t ON t.region = g.region \
                          ORDER BY g.region, g.rock",
            },
        ],
    },
    Report {
        name: "subtotals",
        asks: "the specimens and metres of each region and rock, with subtotals",
        keys: 0,
        forms: [
            Text::Each {
                sqlite: "WITH g AS (SELECT si.region, sp.rock, count(*) AS n, sum(sp.base_m - sp.top_m) AS m \
                         FROM specimen sp JOIN borehole b ON b.id = sp.borehole_id \
                         JOIN site si ON si.id = b.site_id GROUP BY si.region, sp.rock) \
                         SELECT region, rock, n, m FROM g \
                         UNION ALL SELECT region, NULL, sum(n), sum(m) FROM g GROUP BY region \
                         UNION ALL SELECT NULL, NULL, sum(n), sum(m) FROM g \
                         ORDER BY 1 NULLS LAST, 2 NULLS LAST",
                postgres: "SELECT si.region, sp.rock, count(*), sum(sp.base_m - sp.top_m) FROM specimen sp \
                           JOIN borehole b ON b.id = sp.borehole_id JOIN site si ON si.id = b.site_id \
                           GROUP BY ROLLUP (si.region, sp.rock) ORDER BY 1, 2",
                mariadb: "SELECT si.region, sp.rock, count(*), sum(sp.base_m - sp.top_m) FROM specimen sp \
                          JOIN borehole b ON b.id = sp.borehole_id JOIN site si ON si.id = b.site_id \
                          GROUP BY si.region, sp.rock WITH ROLLUP",
            },
            Text::Each {
                sqlite: "WITH r AS (SELECT si.region, sp.rock, sp.base_m - sp.top_m AS m \
                         FROM specimen sp JOIN borehole b ON b.id = sp.borehole_id \
                         JOIN site si ON si.id = b.site_id) \
                         SELECT region, rock, count(*), sum(m) FROM r GROUP BY region, rock \
                         UNION ALL SELECT region, NULL, count(*), sum(m) FROM r GROUP BY region \
                         UNION ALL SELECT NULL, NULL, count(*), sum(m) FROM r \
                         ORDER BY 1 NULLS LAST, 2 NULLS LAST",
                postgres: "WITH g AS (SELECT si.region, sp.rock, count(*) AS n, sum(sp.base_m - sp.top_m) AS m \
                           FROM specimen sp JOIN borehole b ON b.id = sp.borehole_id \
                           JOIN site si ON si.id = b.site_id GROUP BY si.region, sp.rock) \
                           SELECT region, rock, n, m FROM g \
                           UNION ALL SELECT region, NULL, sum(n)::int8, sum(m) FROM g GROUP BY region \
                           UNION ALL SELECT NULL, NULL, sum(n)::int8, sum(m) FROM g ORDER BY 1, 2",
                mariadb: "WITH g AS (SELECT si.region, sp.rock, count(*) AS n, sum(sp.base_m - sp.top_m) AS m \
                          FROM specimen sp JOIN borehole b ON b.id = sp.borehole_id \
                          JOIN site si ON si.id = b.site_id GROUP BY si.region, sp.rock) \
                          SELECT * FROM (SELECT region, rock, n, m FROM g \
                          UNION ALL SELECT region, NULL, sum(n), sum(m) FROM g GROUP BY region \
                          UNION ALL SELECT NULL, NULL, sum(n), sum(m) FROM g) q \
                          ORDER BY region IS NULL, region, rock IS NULL, rock",
            },
        ],
    },
    Report {
        name: "top",
        asks: "the two deepest specimens of each borehole drilled since 2023",
        keys: 0,
        forms: [
            Text::Same(
                "SELECT q.label, q.base_m FROM (SELECT sp.id, sp.label, sp.base_m, row_number() OVER \
                 (PARTITION BY sp.borehole_id ORDER BY sp.base_m DESC, sp.id) AS n FROM specimen sp \
                 JOIN borehole b ON b.id = sp.borehole_id WHERE b.drilled_on >= '2023-01-01') q \
                 WHERE q.n <= 2 ORDER BY q.base_m DESC, q.id",
            ),
            Text::Each {
                sqlite: "SELECT sp.label, sp.base_m FROM specimen sp JOIN borehole b ON b.id = sp.borehole_id \
                         WHERE b.drilled_on >= '2023-01-01' AND (SELECT count(*) FROM specimen o \
                         WHERE o.borehole_id = sp.borehole_id AND (o.base_m > sp.base_m \
                         OR (o.base_m = sp.base_m AND o.id < sp.id))) < 2 ORDER BY sp.base_m DESC, sp.id",
                postgres: "SELECT q.label, q.base_m FROM borehole b CROSS JOIN LATERAL (SELECT sp.id, sp.label, sp.base_m \
                           FROM specimen sp WHERE sp.borehole_id = b.id ORDER BY sp.base_m DESC, sp.id LIMIT 2) q \
                           WHERE b.drilled_on >= '2023-01-01' ORDER BY q.base_m DESC, q.id",
                mariadb: "SELECT sp.label, sp.base_m FROM specimen sp JOIN borehole b ON b.id = sp.borehole_id \
                          WHERE b.drilled_on >= '2023-01-01' AND (SELECT count(*) FROM specimen o \
                          WHERE o.borehole_id = sp.borehole_id AND (o.base_m > sp.base_m \
                          OR (o.base_m = sp.base_m AND o.id < sp.id))) < 2 ORDER BY sp.base_m DESC, sp.id",
            },
        ],
    },
    Report {
        name: "cohorts",
        asks: "the boreholes by the year of their first specimen, and the specimens of each year after it",
        keys: 0,
        forms: [
            Text::Each {
                sqlite: "WITH f AS (SELECT borehole_id, CAST(substr(min(taken_on), 1, 4) AS INTEGER) AS y \
                         FROM specimen GROUP BY borehole_id) \
                         SELECT f.y, CAST(substr(s.taken_on, 1, 4) AS INTEGER) - f.y, count(DISTINCT s.borehole_id), \
                         count(*) FROM specimen s JOIN f ON f.borehole_id = s.borehole_id GROUP BY 1, 2 ORDER BY 1, 2",
                postgres: "WITH f AS (SELECT borehole_id, extract(year FROM min(taken_on))::int8 AS y \
                           FROM specimen GROUP BY borehole_id) \
                           SELECT f.y, extract(year FROM s.taken_on)::int8 - f.y, count(DISTINCT s.borehole_id), \
                           count(*) FROM specimen s JOIN f ON f.borehole_id = s.borehole_id GROUP BY 1, 2 ORDER BY 1, 2",
                mariadb: "WITH f AS (SELECT borehole_id, YEAR(min(taken_on)) AS y FROM specimen GROUP BY borehole_id) \
                          SELECT f.y, YEAR(s.taken_on) - f.y, count(DISTINCT s.borehole_id), count(*) \
                          FROM specimen s JOIN f ON f.borehole_id = s.borehole_id GROUP BY 1, 2 ORDER BY 1, 2",
            },
            Text::Each {
                sqlite: "SELECT f, y - f, count(DISTINCT borehole_id), count(*) FROM (SELECT borehole_id, \
                         CAST(substr(taken_on, 1, 4) AS INTEGER) AS y, CAST(substr(min(taken_on) OVER \
                         (PARTITION BY borehole_id), 1, 4) AS INTEGER) AS f FROM specimen) q GROUP BY 1, 2 ORDER BY 1, 2",
                postgres: "SELECT f, y - f, count(DISTINCT borehole_id), count(*) FROM (SELECT borehole_id, \
                           extract(year FROM taken_on)::int8 AS y, extract(year FROM min(taken_on) OVER \
                           (PARTITION BY borehole_id))::int8 AS f FROM specimen) q GROUP BY 1, 2 ORDER BY 1, 2",
                mariadb: "SELECT f, y - f, count(DISTINCT borehole_id), count(*) FROM (SELECT borehole_id, \
                          YEAR(taken_on) AS y, YEAR(min(taken_on) OVER (PARTITION BY borehole_id)) AS f \
                          FROM specimen) q GROUP BY 1, 2 ORDER BY 1, 2",
            },
        ],
    },
    Report {
        name: "full join",
        asks: "the specimens of each site since 2024 beside its assays without a result",
        keys: 0,
        forms: [
            Text::Each {
                sqlite: "SELECT coalesce(t.site_id, o.site_id), t.n, o.n FROM \
                         (SELECT b.site_id, count(*) AS n FROM specimen s JOIN borehole b ON b.id = s.borehole_id \
                         WHERE s.taken_on >= '2024-01-01' GROUP BY b.site_id) t FULL JOIN \
                         (SELECT b.site_id, count(*) AS n FROM assay a JOIN specimen s ON s.id = a.specimen_id \
                         JOIN borehole b ON b.id = s.borehole_id WHERE a.reported_on IS NULL GROUP BY b.site_id) o \
                         ON o.site_id = t.site_id ORDER BY 1",
                postgres: "SELECT coalesce(t.site_id, o.site_id), t.n, o.n FROM \
                           (SELECT b.site_id, count(*) AS n FROM specimen s JOIN borehole b ON b.id = s.borehole_id \
                           WHERE s.taken_on >= '2024-01-01' GROUP BY b.site_id) t FULL JOIN \
                           (SELECT b.site_id, count(*) AS n FROM assay a JOIN specimen s ON s.id = a.specimen_id \
                           JOIN borehole b ON b.id = s.borehole_id WHERE a.reported_on IS NULL GROUP BY b.site_id) o \
                           ON o.site_id = t.site_id ORDER BY 1",
                mariadb: "WITH t AS (SELECT b.site_id, count(*) AS n FROM specimen s JOIN borehole b \
                          ON b.id = s.borehole_id WHERE s.taken_on >= '2024-01-01' GROUP BY b.site_id), \
                          o AS (SELECT b.site_id, count(*) AS n FROM assay a JOIN specimen s ON s.id = a.specimen_id \
                          JOIN borehole b ON b.id = s.borehole_id WHERE a.reported_on IS NULL GROUP BY b.site_id) \
                          SELECT t.site_id, t.n, o.n FROM t LEFT JOIN o ON o.site_id = t.site_id \
                          UNION ALL SELECT o.site_id, NULL, o.n FROM o LEFT JOIN t ON t.site_id = o.site_id \
                          WHERE t.site_id IS NULL ORDER BY 1",
            },
            Text::Same(
                "SELECT site_id, max(t), max(o) FROM (SELECT b.site_id, count(*) AS t, NULL AS o FROM specimen s \
                 JOIN borehole b ON b.id = s.borehole_id WHERE s.taken_on >= '2024-01-01' GROUP BY b.site_id \
                 UNION ALL SELECT b.site_id, NULL, count(*) FROM assay a JOIN specimen s ON s.id = a.specimen_id \
                 JOIN borehole b ON b.id = s.borehole_id WHERE a.reported_on IS NULL GROUP BY b.site_id) q \
                 GROUP BY site_id ORDER BY site_id",
            ),
        ],
    },
    Report {
        name: "above the mean",
        asks: "the specimens that are longer than the mean of their borehole, by rock",
        keys: 0,
        forms: [
            Text::Same(
                "SELECT s.rock, count(*) FROM specimen s WHERE s.base_m - s.top_m > (SELECT avg(o.base_m - o.top_m) \
                 FROM specimen o WHERE o.borehole_id = s.borehole_id) GROUP BY s.rock ORDER BY s.rock",
            ),
            Text::Same(
                "SELECT s.rock, count(*) FROM specimen s JOIN (SELECT borehole_id, avg(base_m - top_m) AS mean \
                 FROM specimen GROUP BY borehole_id) o ON o.borehole_id = s.borehole_id \
                 WHERE s.base_m - s.top_m > o.mean GROUP BY s.rock ORDER BY s.rock",
            ),
        ],
    },
    Report {
        name: "exists",
        asks: "the specimens with an Nd assay above 500 ppm, by rock",
        keys: 0,
        forms: [
            Text::Same(
                "SELECT s.rock, count(*) FROM specimen s WHERE EXISTS (SELECT 1 FROM assay a \
                 WHERE a.specimen_id = s.id AND a.element = 'Nd' AND a.ppm > 500) GROUP BY s.rock ORDER BY s.rock",
            ),
            Text::Same(
                "SELECT s.rock, count(*) FROM specimen s WHERE s.id IN (SELECT a.specimen_id FROM assay a \
                 WHERE a.element = 'Nd' AND a.ppm > 500) GROUP BY s.rock ORDER BY s.rock",
            ),
        ],
    },
    Report {
        name: "not exists",
        asks: "the specimens without a reported assay of U below 10 ppm, by rock",
        keys: 0,
        forms: [
            Text::Same(
                "SELECT s.rock, count(*) FROM specimen s WHERE NOT EXISTS (SELECT 1 FROM assay a \
                 WHERE a.specimen_id = s.id AND a.element = 'U' AND a.ppm < 10 AND a.reported_on IS NOT NULL) \
                 GROUP BY s.rock ORDER BY s.rock",
            ),
            Text::Same(
                "SELECT s.rock, count(*) FROM specimen s LEFT JOIN (SELECT DISTINCT specimen_id FROM assay \
                 WHERE element = 'U' AND ppm < 10 AND reported_on IS NOT NULL) a ON a.specimen_id = s.id \
                 WHERE a.specimen_id IS NULL GROUP BY s.rock ORDER BY s.rock",
            ),
        ],
    },
    Report {
        name: "exists in not exists",
        asks: "the boreholes of each rig with a granite of which no assay waits for its result",
        keys: 0,
        forms: [
            Text::Same(
                "SELECT b.rig, count(*) FROM borehole b WHERE EXISTS (SELECT 1 FROM specimen s \
                 WHERE s.borehole_id = b.id AND s.rock = 'granite' AND NOT EXISTS (SELECT 1 FROM assay a \
                 WHERE a.specimen_id = s.id AND a.reported_on IS NULL)) GROUP BY b.rig ORDER BY b.rig",
            ),
            Text::Same(
                "SELECT b.rig, count(*) FROM borehole b WHERE b.id IN (SELECT s.borehole_id FROM specimen s \
                 WHERE s.rock = 'granite' AND s.id NOT IN (SELECT a.specimen_id FROM assay a \
                 WHERE a.reported_on IS NULL)) GROUP BY b.rig ORDER BY b.rig",
            ),
        ],
    },
    Report {
        name: "grandchildren",
        asks: "the sum of the assays of each borehole drilled since 2023",
        keys: 0,
        forms: [
            Text::Same(
                "SELECT b.id, (SELECT sum(a.ppm) FROM specimen s JOIN assay a ON a.specimen_id = s.id \
                 WHERE s.borehole_id = b.id) FROM borehole b WHERE b.drilled_on >= '2023-01-01' ORDER BY b.id",
            ),
            Text::Same(
                "SELECT b.id, sum(a.ppm) FROM borehole b LEFT JOIN specimen s ON s.borehole_id = b.id \
                 LEFT JOIN assay a ON a.specimen_id = s.id WHERE b.drilled_on >= '2023-01-01' \
                 GROUP BY b.id ORDER BY b.id",
            ),
        ],
    },
    Report {
        name: "difference",
        asks: "the number of boreholes with granite and without basalt",
        keys: 0,
        forms: [
            Text::Same(
                "SELECT count(*) FROM (SELECT borehole_id FROM specimen WHERE rock = 'granite' \
                 EXCEPT SELECT borehole_id FROM specimen WHERE rock = 'basalt') q",
            ),
            Text::Same(
                "SELECT count(*) FROM (SELECT borehole_id FROM specimen WHERE rock IN ('granite', 'basalt') \
                 GROUP BY borehole_id HAVING max(CASE WHEN rock = 'basalt' THEN 1 ELSE 0 END) = 0) q",
            ),
        ],
    },
    Report {
        name: "running total",
        asks: "the specimens of each year and month, and all so far",
        keys: 0,
        forms: [
            Text::Each {
                sqlite: "SELECT CAST(substr(taken_on, 1, 4) AS INTEGER), CAST(substr(taken_on, 6, 2) AS INTEGER), \
                         count(*), sum(count(*)) OVER (ORDER BY substr(taken_on, 1, 7) ROWS UNBOUNDED PRECEDING) \
                         FROM specimen GROUP BY substr(taken_on, 1, 7) ORDER BY 1, 2",
                postgres: "SELECT extract(year FROM taken_on)::int8, extract(month FROM taken_on)::int8, count(*), \
                           (sum(count(*)) OVER (ORDER BY extract(year FROM taken_on)::int8, \
                           extract(month FROM taken_on)::int8 ROWS UNBOUNDED PRECEDING))::int8 \
                           FROM specimen GROUP BY 1, 2 ORDER BY 1, 2",
                mariadb: "SELECT YEAR(taken_on), MONTH(taken_on), count(*), sum(count(*)) OVER \
                          (ORDER BY YEAR(taken_on), MONTH(taken_on) ROWS UNBOUNDED PRECEDING) \
                          FROM specimen GROUP BY 1, 2 ORDER BY 1, 2",
            },
            Text::Each {
                sqlite: "SELECT y, m, n, sum(n) OVER (ORDER BY y, m ROWS UNBOUNDED PRECEDING) FROM \
                         (SELECT CAST(strftime('%Y', taken_on) AS INTEGER) AS y, \
                         CAST(strftime('%m', taken_on) AS INTEGER) AS m, count(*) AS n FROM specimen GROUP BY 1, 2) q \
                         ORDER BY y, m",
                postgres: "SELECT extract(year FROM f)::int8, extract(month FROM f)::int8, n, \
                           (sum(n) OVER (ORDER BY f ROWS UNBOUNDED PRECEDING))::int8 FROM \
                           (SELECT date_trunc('month', taken_on::timestamp) AS f, count(*) AS n FROM specimen \
                           GROUP BY 1) q ORDER BY f",
                mariadb: "SELECT y, m, n, sum(n) OVER (ORDER BY y, m ROWS UNBOUNDED PRECEDING) FROM \
                          (SELECT YEAR(taken_on) AS y, MONTH(taken_on) AS m, count(*) AS n FROM specimen \
                          GROUP BY y, m) q ORDER BY y, m",
            },
        ],
    },
    Report {
        name: "two CTEs",
        asks: "the boreholes with a tenth more metres than the mean of their site, by region",
        keys: 0,
        forms: [
            Text::Same(
                "WITH m AS (SELECT b.id, b.site_id, sum(s.base_m - s.top_m) AS metres FROM specimen s \
                 JOIN borehole b ON b.id = s.borehole_id GROUP BY b.id, b.site_id), \
                 o AS (SELECT site_id, avg(metres) AS mean FROM m GROUP BY site_id) \
                 SELECT si.region, count(*) FROM m JOIN o ON o.site_id = m.site_id JOIN site si ON si.id = m.site_id \
                 WHERE m.metres > o.mean * 1.1 GROUP BY si.region ORDER BY si.region",
            ),
            Text::Same(
                "SELECT si.region, count(*) FROM (SELECT b.site_id, sum(s.base_m - s.top_m) AS metres, \
                 avg(sum(s.base_m - s.top_m)) OVER (PARTITION BY b.site_id) AS mean FROM specimen s \
                 JOIN borehole b ON b.id = s.borehole_id GROUP BY b.id, b.site_id) q \
                 JOIN site si ON si.id = q.site_id WHERE q.metres > q.mean * 1.1 \
                 GROUP BY si.region ORDER BY si.region",
            ),
        ],
    },
    Report {
        name: "conditional counts",
        asks: "the assays of each lab, those that are late, and the mean of Nd",
        keys: 0,
        forms: [
            Text::Each {
                sqlite: "SELECT l.name, count(*), count(*) FILTER (WHERE a.reported_on IS NULL AND a.due_on < '2025-01-01'), \
                         avg(a.ppm) FILTER (WHERE a.element = 'Nd') FROM assay a JOIN lab l ON l.id = a.lab_id \
                         GROUP BY l.name ORDER BY l.name",
                postgres: "SELECT l.name, count(*), count(*) FILTER (WHERE a.reported_on IS NULL AND a.due_on < '2025-01-01'), \
                           avg(a.ppm) FILTER (WHERE a.element = 'Nd') FROM assay a JOIN lab l ON l.id = a.lab_id \
                           GROUP BY l.name ORDER BY l.name",
                mariadb: "SELECT l.name, count(*), sum(a.reported_on IS NULL AND a.due_on < '2025-01-01'), \
                          avg(IF(a.element = 'Nd', a.ppm, NULL)) FROM assay a JOIN lab l ON l.id = a.lab_id \
                          GROUP BY l.name ORDER BY l.name",
            },
            Text::Same(
                "SELECT l.name, q.n, q.late, q.nd FROM (SELECT lab_id, count(*) AS n, \
                 count(CASE WHEN reported_on IS NULL AND due_on < '2025-01-01' THEN 1 END) AS late, \
                 avg(CASE WHEN element = 'Nd' THEN ppm END) AS nd FROM assay GROUP BY lab_id) q \
                 JOIN lab l ON l.id = q.lab_id ORDER BY l.name",
            ),
        ],
    },
    Report {
        name: "with nobody",
        asks: "the specimens that each analyst describes, and those of nobody",
        keys: 0,
        forms: [
            Text::Each {
                sqlite: "SELECT a.name, count(*) FROM specimen s LEFT JOIN analyst a ON a.id = s.analyst_id \
                         GROUP BY a.id, a.name ORDER BY a.name NULLS LAST, a.id",
                postgres: "SELECT a.name, count(*) FROM specimen s LEFT JOIN analyst a ON a.id = s.analyst_id \
                           GROUP BY a.id, a.name ORDER BY a.name, a.id",
                mariadb: "SELECT a.name, count(*) FROM specimen s LEFT JOIN analyst a ON a.id = s.analyst_id \
                          GROUP BY a.id, a.name ORDER BY a.name IS NULL, a.name, a.id",
            },
            Text::Each {
                sqlite: "SELECT a.name, q.n FROM (SELECT analyst_id, count(*) AS n FROM specimen GROUP BY analyst_id) q \
                         LEFT JOIN analyst a ON a.id = q.analyst_id ORDER BY a.name NULLS LAST, a.id",
                postgres: "SELECT a.name, q.n FROM (SELECT analyst_id, count(*) AS n FROM specimen GROUP BY analyst_id) q \
                           LEFT JOIN analyst a ON a.id = q.analyst_id ORDER BY a.name, a.id",
                mariadb: "SELECT a.name, q.n FROM (SELECT analyst_id, count(*) AS n FROM specimen GROUP BY analyst_id) q \
                          LEFT JOIN analyst a ON a.id = q.analyst_id ORDER BY a.name IS NULL, a.name, a.id",
            },
        ],
    },
    Report {
        name: "parents",
        asks: "the hundred deepest granites of a region, with borehole, site and analyst",
        keys: 0,
        forms: [
            Text::Same(
                "SELECT s.label, b.name, si.name, an.name FROM specimen s JOIN borehole b ON b.id = s.borehole_id \
                 JOIN site si ON si.id = b.site_id LEFT JOIN analyst an ON an.id = s.analyst_id \
                 WHERE si.region = 'Upper Tarn' AND s.rock = 'granite' ORDER BY s.base_m DESC, s.id LIMIT 100",
            ),
            Text::Same(
                "SELECT q.label, q.bname, q.sname, an.name FROM (SELECT s.id, s.label, s.base_m, s.analyst_id, \
                 b.name AS bname, si.name AS sname FROM specimen s JOIN borehole b ON b.id = s.borehole_id \
                 JOIN site si ON si.id = b.site_id WHERE si.region = 'Upper Tarn' AND s.rock = 'granite' \
                 ORDER BY s.base_m DESC, s.id LIMIT 100) q LEFT JOIN analyst an ON an.id = q.analyst_id \
                 ORDER BY q.base_m DESC, q.id",
            ),
        ],
    },
    Report {
        name: "money",
        asks: "the sum billed for each service, less discount, with tax",
        keys: 0,
        forms: [
            Text::Each {
                sqlite: "SELECT l.service, sum(l.quantity * l.unit_price * (1 - i.discount) * (1 + l.tax_rate)) \
                         FROM invoice_line l JOIN invoice i ON i.id = l.invoice_id GROUP BY l.service ORDER BY l.service",
                postgres: "SELECT l.service, sum(l.quantity * l.unit_price * (1 - i.discount) * (1 + l.tax_rate)) \
                           FROM invoice_line l JOIN invoice i ON i.id = l.invoice_id GROUP BY l.service ORDER BY l.service",
                mariadb: "SELECT l.service, sum(l.quantity * l.unit_price * (1 - i.discount) * (1 + l.tax_rate)) \
                          FROM invoice_line l JOIN invoice i ON i.id = l.invoice_id GROUP BY l.service ORDER BY l.service",
            },
            Text::Same(
                "SELECT service, sum(billed * (1 - discount)) FROM (SELECT i.discount, l.service, \
                 sum(l.quantity * l.unit_price * (1 + l.tax_rate)) AS billed FROM invoice_line l \
                 JOIN invoice i ON i.id = l.invoice_id GROUP BY i.discount, l.service) q \
                 GROUP BY service ORDER BY service",
            ),
        ],
    },
    Report { name: "list of 1", asks: "the assays of 1 specimen", keys: 1, forms: OF_KEYS },
    Report { name: "list of 8", asks: "the assays of 8 specimens", keys: 8, forms: OF_KEYS },
    Report { name: "list of 64", asks: "the assays of 64 specimens", keys: 64, forms: OF_KEYS },
    Report {
        name: "list of 10,000",
        asks: "the assays of 10,000 specimens",
        keys: 10_000,
        forms: OF_KEYS,
    },
];
