-- The core shed on SQLite. Dates are ISO 8601 text, timestamps RFC 3339 text with six digits of the second.
CREATE TABLE agency (
    id   INTEGER PRIMARY KEY,
    name TEXT NOT NULL UNIQUE
);

CREATE TABLE site (
    id        INTEGER PRIMARY KEY,
    agency_id INTEGER NOT NULL REFERENCES agency,
    name      TEXT NOT NULL,
    region    TEXT NOT NULL,
    closed_on TEXT
);
CREATE INDEX site_agency ON site (agency_id);

CREATE TABLE borehole (
    id         INTEGER PRIMARY KEY,
    site_id    INTEGER NOT NULL REFERENCES site,
    name       TEXT NOT NULL UNIQUE,
    depth_m    REAL NOT NULL,
    drilled_on TEXT NOT NULL,
    rig        TEXT NOT NULL
);
CREATE INDEX borehole_site ON borehole (site_id);

CREATE TABLE collar (
    borehole_id INTEGER PRIMARY KEY REFERENCES borehole,
    easting     REAL NOT NULL,
    northing    REAL NOT NULL,
    elevation_m REAL NOT NULL
);

CREATE TABLE analyst (
    id   INTEGER PRIMARY KEY,
    name TEXT NOT NULL
);

CREATE TABLE specimen (
    id           INTEGER PRIMARY KEY,
    borehole_id  INTEGER NOT NULL REFERENCES borehole,
    label        TEXT NOT NULL UNIQUE,
    rock         TEXT NOT NULL,
    top_m        REAL NOT NULL,
    base_m       REAL NOT NULL CHECK (base_m >= top_m),
    taken_on     TEXT NOT NULL,
    analyst_id   INTEGER REFERENCES analyst,
    parent_id    INTEGER REFERENCES specimen,
    withdrawn_at TEXT
);
CREATE INDEX specimen_borehole ON specimen (borehole_id);
CREATE INDEX specimen_analyst ON specimen (analyst_id);
CREATE INDEX specimen_parent ON specimen (parent_id);

CREATE TABLE lab (
    id         INTEGER PRIMARY KEY,
    name       TEXT NOT NULL UNIQUE,
    country    TEXT NOT NULL,
    accredited INTEGER NOT NULL CHECK (accredited IN (0, 1))
);

CREATE TABLE assay (
    id          INTEGER PRIMARY KEY,
    specimen_id INTEGER NOT NULL REFERENCES specimen,
    element     TEXT NOT NULL,
    ppm         REAL NOT NULL,
    lab_id      INTEGER NOT NULL REFERENCES lab,
    due_on      TEXT NOT NULL,
    reported_on TEXT
);
CREATE INDEX assay_specimen ON assay (specimen_id);
CREATE INDEX assay_lab ON assay (lab_id);

CREATE TABLE invoice (
    id        INTEGER PRIMARY KEY,
    number    TEXT NOT NULL UNIQUE,
    lab_id    INTEGER NOT NULL REFERENCES lab,
    agency_id INTEGER NOT NULL REFERENCES agency,
    issued_on TEXT NOT NULL,
    paid_on   TEXT,
    discount  TEXT NOT NULL
);
CREATE INDEX invoice_lab ON invoice (lab_id);
CREATE INDEX invoice_agency ON invoice (agency_id);

CREATE TABLE invoice_line (
    id         INTEGER PRIMARY KEY,
    invoice_id INTEGER NOT NULL REFERENCES invoice,
    service    TEXT NOT NULL,
    quantity   TEXT NOT NULL,
    unit_price TEXT NOT NULL,
    tax_rate   TEXT NOT NULL
);
CREATE INDEX invoice_line_invoice ON invoice_line (invoice_id);

CREATE TABLE hazard (
    id   INTEGER PRIMARY KEY,
    name TEXT NOT NULL UNIQUE
);

CREATE TABLE specimen_hazard (
    specimen_id INTEGER NOT NULL REFERENCES specimen,
    hazard_id   INTEGER NOT NULL REFERENCES hazard,
    PRIMARY KEY (specimen_id, hazard_id)
);
CREATE INDEX specimen_hazard_hazard ON specimen_hazard (hazard_id);

-- Empty: a service writes its audit trail here.
CREATE TABLE audit_entry (
    id         INTEGER PRIMARY KEY,
    agency_id  INTEGER NOT NULL REFERENCES agency,
    entity     TEXT NOT NULL,
    operation  TEXT NOT NULL,
    changed    INTEGER NOT NULL,
    written_at TEXT NOT NULL
);

-- Says that the tables above are the core shed's.
CREATE TABLE core_shed (
    edition INTEGER PRIMARY KEY
);
