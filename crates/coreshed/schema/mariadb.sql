-- The core shed on MariaDB and MySQL. Its text goes by code point: MySQL has another name for that collation.
CREATE TABLE agency (
    id   BIGINT AUTO_INCREMENT PRIMARY KEY,
    name VARCHAR(190) NOT NULL UNIQUE
) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;

CREATE TABLE site (
    id        BIGINT AUTO_INCREMENT PRIMARY KEY,
    agency_id BIGINT NOT NULL,
    name      VARCHAR(190) NOT NULL,
    region    VARCHAR(190) NOT NULL,
    closed_on DATE,
    FOREIGN KEY (agency_id) REFERENCES agency (id)
) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
CREATE INDEX site_agency ON site (agency_id);

CREATE TABLE borehole (
    id         BIGINT AUTO_INCREMENT PRIMARY KEY,
    site_id    BIGINT NOT NULL,
    name       VARCHAR(190) NOT NULL UNIQUE,
    depth_m    DOUBLE NOT NULL,
    drilled_on DATE NOT NULL,
    rig        VARCHAR(190) NOT NULL,
    FOREIGN KEY (site_id) REFERENCES site (id)
) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
CREATE INDEX borehole_site ON borehole (site_id);

CREATE TABLE collar (
    borehole_id BIGINT PRIMARY KEY,
    easting     DOUBLE NOT NULL,
    northing    DOUBLE NOT NULL,
    elevation_m DOUBLE NOT NULL,
    FOREIGN KEY (borehole_id) REFERENCES borehole (id)
) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;

CREATE TABLE analyst (
    id   BIGINT AUTO_INCREMENT PRIMARY KEY,
    name VARCHAR(190) NOT NULL
) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;

CREATE TABLE specimen (
    id           BIGINT AUTO_INCREMENT PRIMARY KEY,
    borehole_id  BIGINT NOT NULL,
    label        VARCHAR(190) NOT NULL UNIQUE,
    rock         VARCHAR(190) NOT NULL,
    top_m        DOUBLE NOT NULL,
    base_m       DOUBLE NOT NULL CHECK (base_m >= top_m),
    taken_on     DATE NOT NULL,
    analyst_id   BIGINT NULL,
    parent_id    BIGINT NULL,
    withdrawn_at DATETIME(6) NULL,
    FOREIGN KEY (borehole_id) REFERENCES borehole (id),
    FOREIGN KEY (analyst_id) REFERENCES analyst (id),
    FOREIGN KEY (parent_id) REFERENCES specimen (id)
) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
CREATE INDEX specimen_borehole ON specimen (borehole_id);
CREATE INDEX specimen_analyst ON specimen (analyst_id);
CREATE INDEX specimen_parent ON specimen (parent_id);

CREATE TABLE lab (
    id         BIGINT AUTO_INCREMENT PRIMARY KEY,
    name       VARCHAR(190) NOT NULL UNIQUE,
    country    VARCHAR(190) NOT NULL,
    accredited BOOLEAN NOT NULL
) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;

CREATE TABLE assay (
    id          BIGINT AUTO_INCREMENT PRIMARY KEY,
    specimen_id BIGINT NOT NULL,
    element     VARCHAR(190) NOT NULL,
    ppm         DOUBLE NOT NULL,
    lab_id      BIGINT NOT NULL,
    due_on      DATE NOT NULL,
    reported_on DATE,
    FOREIGN KEY (specimen_id) REFERENCES specimen (id),
    FOREIGN KEY (lab_id) REFERENCES lab (id)
) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
CREATE INDEX assay_specimen ON assay (specimen_id);
CREATE INDEX assay_lab ON assay (lab_id);

CREATE TABLE invoice (
    id        BIGINT AUTO_INCREMENT PRIMARY KEY,
    number    VARCHAR(190) NOT NULL UNIQUE,
    lab_id    BIGINT NOT NULL,
    agency_id BIGINT NOT NULL,
    issued_on DATE NOT NULL,
    paid_on   DATE,
    discount  DECIMAL(5, 4) NOT NULL,
    FOREIGN KEY (lab_id) REFERENCES lab (id),
    FOREIGN KEY (agency_id) REFERENCES agency (id)
) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
CREATE INDEX invoice_lab ON invoice (lab_id);
CREATE INDEX invoice_agency ON invoice (agency_id);

CREATE TABLE invoice_line (
    id         BIGINT AUTO_INCREMENT PRIMARY KEY,
    invoice_id BIGINT NOT NULL,
    service    VARCHAR(190) NOT NULL,
    quantity   DECIMAL(10, 2) NOT NULL,
    unit_price DECIMAL(12, 4) NOT NULL,
    tax_rate   DECIMAL(5, 4) NOT NULL,
    FOREIGN KEY (invoice_id) REFERENCES invoice (id)
) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
CREATE INDEX invoice_line_invoice ON invoice_line (invoice_id);

CREATE TABLE hazard (
    id   BIGINT AUTO_INCREMENT PRIMARY KEY,
    name VARCHAR(190) NOT NULL UNIQUE
) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;

CREATE TABLE specimen_hazard (
    specimen_id BIGINT NOT NULL,
    hazard_id   BIGINT NOT NULL,
    PRIMARY KEY (specimen_id, hazard_id),
    FOREIGN KEY (specimen_id) REFERENCES specimen (id),
    FOREIGN KEY (hazard_id) REFERENCES hazard (id)
) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
CREATE INDEX specimen_hazard_hazard ON specimen_hazard (hazard_id);

-- Empty: a service writes its audit trail here.
CREATE TABLE audit_entry (
    id         BIGINT AUTO_INCREMENT PRIMARY KEY,
    agency_id  BIGINT NOT NULL,
    entity     VARCHAR(190) NOT NULL,
    operation  VARCHAR(40) NOT NULL,
    changed    BIGINT NOT NULL,
    written_at DATETIME(6) NOT NULL,
    FOREIGN KEY (agency_id) REFERENCES agency (id)
) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;

-- Says that the tables above are the core shed's.
CREATE TABLE core_shed (
    edition BIGINT PRIMARY KEY
) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
