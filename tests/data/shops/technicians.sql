BEGIN TRANSACTION;
CREATE TABLE attachment (
                id INTEGER PRIMARY KEY,
                ticket_id INTEGER NOT NULL REFERENCES ticket (id),
                sha256 TEXT NOT NULL REFERENCES file (sha256),
                name TEXT NOT NULL,
                added_by TEXT NOT NULL,
                added_at TEXT NOT NULL,
                UNIQUE (ticket_id, sha256)
            ) STRICT
            ;
CREATE TABLE device (
                id INTEGER PRIMARY KEY,
                token TEXT NOT NULL UNIQUE,
                name TEXT NOT NULL,
                initials TEXT NOT NULL,
                paired_at TEXT NOT NULL,
                seen_at TEXT NOT NULL,
                revoked_at TEXT
            ) STRICT
            ;
CREATE TABLE entry (
                ticket_id INTEGER NOT NULL REFERENCES ticket (id),
                place INTEGER NOT NULL CHECK (place >= 0),
                body TEXT NOT NULL CHECK (json_valid(body)),
                made_by TEXT NOT NULL,
                made_at TEXT NOT NULL,
                request_key TEXT,
                PRIMARY KEY (ticket_id, place)
            ) STRICT, WITHOUT ROWID
            ;
INSERT INTO "entry" VALUES(1,0,'{"move": "sound", "outcome": "ticking"}','KT','2026-12-02T16:51:59.981+00:00',NULL);
INSERT INTO "entry" VALUES(2,0,'{"move": "screen", "outcome": "no-boot-device"}','KT','2026-12-02T16:52:00.044+00:00',NULL);
INSERT INTO "entry" VALUES(2,1,'{"note": "asked for the charger"}','KT','2026-12-02T16:52:00.061+00:00',NULL);
INSERT INTO "entry" VALUES(3,0,'{"move": "sound", "outcome": "steady"}','KT','2026-12-02T16:52:00.085+00:00',NULL);
INSERT INTO "entry" VALUES(3,1,'{"undo": 0}','KT','2026-12-02T16:52:00.104+00:00',NULL);
CREATE TABLE epoch (id INTEGER PRIMARY KEY CHECK (id = 1), n INTEGER NOT NULL) STRICT;
INSERT INTO "epoch" VALUES(1,0);
CREATE TABLE erasure (ticket_id INTEGER PRIMARY KEY REFERENCES ticket (id), erased_by TEXT NOT NULL, erased_at TEXT NOT NULL, told TEXT NOT NULL DEFAULT '[]') STRICT;
CREATE TABLE file (
                sha256 TEXT PRIMARY KEY CHECK (length(sha256) = 64),
                size INTEGER NOT NULL,
                added_at TEXT NOT NULL
            ) STRICT
            ;
CREATE TABLE learning_reset (at TEXT NOT NULL, made_by TEXT NOT NULL, era INTEGER NOT NULL DEFAULT 0) STRICT;
CREATE TABLE lesson (
                ticket_id INTEGER PRIMARY KEY REFERENCES ticket (id),
                closed_at TEXT NOT NULL,
                context TEXT NOT NULL,
                faults TEXT NOT NULL CHECK (json_valid(faults)),
                expected TEXT NOT NULL CHECK (json_valid(expected)),
                choice TEXT NOT NULL,
                confidence REAL NOT NULL CHECK (confidence BETWEEN 0 AND 1),
                suspects TEXT NOT NULL CHECK (json_valid(suspects)),
                was_right INTEGER NOT NULL CHECK (was_right IN (0, 1))
            , era INTEGER NOT NULL DEFAULT 0) STRICT
            ;
CREATE TABLE link (
                ticket_id INTEGER PRIMARY KEY REFERENCES ticket (id),
                secret TEXT NOT NULL UNIQUE,
                made_by TEXT NOT NULL,
                made_at TEXT NOT NULL,
                practice TEXT,
                practice_since REAL,
                ended_at TEXT
            , code TEXT) STRICT
            ;
CREATE TABLE "link_order" (
                id INTEGER PRIMARY KEY,
                ticket_id INTEGER NOT NULL REFERENCES link (ticket_id),
                body TEXT NOT NULL CHECK (json_valid(body)),
                state TEXT NOT NULL CHECK (state IN ('waiting', 'paused', 'done', 'refused', 'failed', 'cancelled')),
                detail TEXT NOT NULL,
                made_by TEXT NOT NULL,
                made_at TEXT NOT NULL,
                done_at TEXT,
                wanted TEXT NOT NULL DEFAULT '' CHECK (wanted IN ('', 'pause', 'stop'))
            , told INTEGER NOT NULL DEFAULT 1 CHECK (told IN (0, 1)), handed_to TEXT, wrote INTEGER CHECK (wrote IN (0, 1))) STRICT
            ;
CREATE TABLE link_page (
                session_id TEXT NOT NULL REFERENCES link_session (id),
                seq INTEGER NOT NULL CHECK (seq > 0),
                order_id TEXT NOT NULL,
                line TEXT NOT NULL CHECK (json_valid(line)),
                data BLOB NOT NULL,
                PRIMARY KEY (session_id, seq)
            ) STRICT, WITHOUT ROWID
            ;
CREATE TABLE link_session (
                id TEXT PRIMARY KEY,
                ticket_id INTEGER NOT NULL REFERENCES link (ticket_id),
                machine TEXT NOT NULL CHECK (json_valid(machine)),
                probe TEXT NOT NULL,
                began_at TEXT NOT NULL
            ) STRICT
            ;
CREATE TABLE migration (name TEXT PRIMARY KEY, applied_at TEXT NOT NULL DEFAULT CURRENT_TIMESTAMP) STRICT;
INSERT INTO "migration" VALUES('tickets-and-tape','2026-12-02 16:52:00');
INSERT INTO "migration" VALUES('files','2026-12-02 16:52:00');
INSERT INTO "migration" VALUES('lessons','2026-12-02 16:52:00');
INSERT INTO "migration" VALUES('key-tries','2026-12-02 16:52:00');
INSERT INTO "migration" VALUES('links','2026-12-02 16:52:00');
INSERT INTO "migration" VALUES('known-customers-and-machines','2026-12-02 16:52:00');
INSERT INTO "migration" VALUES('one-request-one-ticket','2026-12-02 16:52:00');
INSERT INTO "migration" VALUES('link-codes','2026-12-02 16:52:00');
INSERT INTO "migration" VALUES('devices','2026-12-02 16:52:00');
INSERT INTO "migration" VALUES('shelf','2026-12-02 16:52:00');
INSERT INTO "migration" VALUES('papers','2026-12-02 16:52:00');
INSERT INTO "migration" VALUES('work-that-takes-hours','2026-12-02 16:52:00');
INSERT INTO "migration" VALUES('ear','2026-12-02 16:52:00');
INSERT INTO "migration" VALUES('codes','2026-12-02 16:52:00');
INSERT INTO "migration" VALUES('order-told','2026-12-02 16:52:00');
INSERT INTO "migration" VALUES('order-handed-out','2026-12-02 16:52:00');
INSERT INTO "migration" VALUES('erasure-told','2026-12-02 16:52:00');
INSERT INTO "migration" VALUES('order-wrote','2026-12-02 16:52:00');
INSERT INTO "migration" VALUES('earlier-stays','2026-12-02 16:52:00');
INSERT INTO "migration" VALUES('technicians','2026-12-02 16:52:00');
CREATE TABLE picture (
                ticket_id INTEGER NOT NULL REFERENCES ticket (id),
                sha256 TEXT NOT NULL REFERENCES file (sha256),
                added_by TEXT NOT NULL,
                added_at TEXT NOT NULL,
                PRIMARY KEY (ticket_id, sha256)
            ) STRICT
            ;
CREATE TABLE recording (
                ticket_id INTEGER NOT NULL REFERENCES ticket (id),
                sha256 TEXT NOT NULL REFERENCES file (sha256),
                kind TEXT NOT NULL CHECK (kind IN ('sound', 'supply')),
                name TEXT NOT NULL,
                added_by TEXT NOT NULL,
                added_at TEXT NOT NULL,
                PRIMARY KEY (ticket_id, sha256)
            ) STRICT
            ;
CREATE TABLE shelf (
                id INTEGER PRIMARY KEY,
                kind TEXT NOT NULL CHECK (kind IN ('drive', 'cable')),
                name TEXT NOT NULL,
                interface TEXT NOT NULL,
                form TEXT NOT NULL,
                key TEXT NOT NULL,
                height_mm REAL NOT NULL,
                length_mm REAL NOT NULL,
                flash INTEGER NOT NULL CHECK (flash IN (0, 1)),
                size_gb REAL NOT NULL,
                price REAL NOT NULL,
                count INTEGER NOT NULL CHECK (count >= 0),
                UNIQUE (kind, name, interface, form, size_gb)
            ) STRICT
            ;
CREATE TABLE shop_page (id INTEGER PRIMARY KEY CHECK (id = 1), body TEXT NOT NULL CHECK (json_valid(body)), kept_by TEXT NOT NULL, kept_at TEXT NOT NULL) STRICT;
CREATE TABLE technician (
                id INTEGER PRIMARY KEY,
                initials TEXT NOT NULL,
                role TEXT NOT NULL,
                pin TEXT NOT NULL,
                added_by TEXT NOT NULL,
                added_at TEXT NOT NULL,
                left_at TEXT
            ) STRICT
            ;
CREATE TABLE ticket (
                id INTEGER PRIMARY KEY,
                number TEXT NOT NULL UNIQUE,
                customer TEXT NOT NULL,
                machine TEXT NOT NULL,
                words TEXT NOT NULL,
                facts TEXT NOT NULL CHECK (json_valid(facts)),
                bay INTEGER CHECK (bay BETWEEN 1 AND 99),
                opened_by TEXT NOT NULL,
                opened_at TEXT NOT NULL,
                closed_at TEXT
            , comeback_of INTEGER REFERENCES ticket (id), request_key TEXT) STRICT
            ;
INSERT INTO "ticket" VALUES(1,'GL-0001','Wren Oakes','Ferrow Lathe-14','It says that there is nothing to start from.','{"form": "laptop"}',1,'KT','2026-12-02T16:51:59.934+00:00',NULL,NULL,NULL);
INSERT INTO "ticket" VALUES(2,'GL-0002','Ida Marsh','Ferrow Lathe-14','It says that there is nothing to start from.','{"form": "laptop", "data": "backed-up"}',2,'KT','2026-12-02T16:52:00.016+00:00',NULL,NULL,NULL);
INSERT INTO "ticket" VALUES(3,'GL-0003','Tove Lund','Ferrow Lathe-14','It says that there is nothing to start from.','{"form": "laptop", "data": "backed-up"}',3,'KT','2026-12-02T16:52:00.073+00:00',NULL,NULL,NULL);
CREATE UNIQUE INDEX ticket_bay ON ticket (bay) WHERE bay IS NOT NULL AND closed_at IS NULL;
CREATE INDEX ticket_open ON ticket (closed_at) WHERE closed_at IS NULL;
CREATE UNIQUE INDEX entry_request ON entry (ticket_id, request_key) WHERE request_key IS NOT NULL;
CREATE TRIGGER entry_no_update BEFORE UPDATE ON entry BEGIN SELECT RAISE(ABORT, 'the tape is append-only'); END;
CREATE TRIGGER entry_no_delete BEFORE DELETE ON entry BEGIN SELECT RAISE(ABORT, 'the tape is append-only'); END;
CREATE INDEX ticket_comeback ON ticket (comeback_of) WHERE comeback_of IS NOT NULL;
CREATE INDEX entry_key_try ON entry (ticket_id, place) WHERE json_extract(body, '$.tried_key') IS NOT NULL;
CREATE INDEX entry_undo ON entry (ticket_id, place) WHERE json_extract(body, '$.undo') IS NOT NULL;
CREATE INDEX ticket_customer ON ticket (customer COLLATE NOCASE, id);
CREATE INDEX ticket_machine ON ticket (machine COLLATE NOCASE, id);
CREATE UNIQUE INDEX ticket_request ON ticket (request_key) WHERE request_key IS NOT NULL;
CREATE INDEX entry_part ON entry (ticket_id, place) WHERE json_extract(body, '$.part') IS NOT NULL;
CREATE INDEX entry_out ON entry (ticket_id, place) WHERE json_extract(body, '$.out') IS NOT NULL;
CREATE INDEX link_page_order ON link_page (order_id);
CREATE INDEX entry_code ON entry (ticket_id, place) WHERE json_extract(body, '$.code') IS NOT NULL;
CREATE INDEX entry_proven ON entry (ticket_id, place) WHERE json_extract(body, '$.proven') IS NOT NULL;
CREATE INDEX ticket_serial ON ticket (json_extract(facts, '$.drive_serial')) WHERE json_extract(facts, '$.drive_serial') IS NOT NULL;
CREATE INDEX entry_serial ON entry (json_extract(body, '$.fact.drive_serial'), ticket_id) WHERE json_extract(body, '$.fact.drive_serial') IS NOT NULL;
CREATE INDEX entry_part_serial ON entry (json_extract(body, '$.part.serial'), ticket_id) WHERE json_extract(body, '$.part.serial') IS NOT NULL;
CREATE UNIQUE INDEX technician_initials ON technician (initials) WHERE left_at IS NULL;
COMMIT;
