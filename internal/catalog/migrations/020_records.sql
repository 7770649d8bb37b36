-- +goose Up
-- Records of which there are many have tables of their own; settings holds single facts about the site.
CREATE TABLE clones (
    name TEXT PRIMARY KEY, volume TEXT NOT NULL, snapshot TEXT NOT NULL, taken INTEGER NOT NULL, dir TEXT NOT NULL,
    made INTEGER NOT NULL, made_by TEXT NOT NULL, until INTEGER NOT NULL, ending INTEGER NOT NULL
);
INSERT INTO clones SELECT substr(key, 7), value->>'volume', value->>'snapshot',
    COALESCE(strftime('%s', value->>'taken') * 1000000000, 0), value->>'dir',
    COALESCE(strftime('%s', value->>'made') * 1000000000, 0), COALESCE(value->>'by', ''),
    COALESCE(strftime('%s', value->>'until') * 1000000000, 0), COALESCE(value->>'ending', 0)
    FROM settings WHERE key LIKE 'clone %';

CREATE TABLE recipes (
    name TEXT PRIMARY KEY, volume TEXT NOT NULL, paths TEXT NOT NULL, at TEXT NOT NULL, to_dir TEXT NOT NULL,
    in_place INTEGER NOT NULL, into_volume TEXT NOT NULL, on_conflict TEXT NOT NULL, from_site TEXT NOT NULL,
    external TEXT NOT NULL, exact INTEGER NOT NULL, due TEXT NOT NULL, zone TEXT NOT NULL, hook TEXT NOT NULL,
    made INTEGER NOT NULL, made_by TEXT NOT NULL, filled TEXT NOT NULL
);
INSERT INTO recipes SELECT substr(key, 8), COALESCE(value->>'$.restore.volume', ''),
    COALESCE(value->'$.restore.paths', '[]'), COALESCE(value->>'$.restore.at', ''),
    COALESCE(value->>'$.restore.to', ''),
    COALESCE(value->>'$.restore.inPlace', 0), COALESCE(value->>'$.restore.into', ''),
    COALESCE(value->>'$.restore.onConflict', ''), COALESCE(value->>'$.restore.from', ''),
    COALESCE(value->>'$.restore.found', ''), COALESCE(value->>'exact', 0), COALESCE(value->>'when', ''),
    COALESCE(value->>'zone', ''), COALESCE(value->>'check', ''),
    COALESCE(strftime('%s', value->>'made') * 1000000000, 0), COALESCE(value->>'by', ''),
    COALESCE(value->>'filled', '')
    FROM settings WHERE key LIKE 'recipe %';

CREATE TABLE mounts (
    dir TEXT PRIMARY KEY, volume TEXT NOT NULL, since INTEGER NOT NULL, made_by TEXT NOT NULL
);
INSERT INTO mounts SELECT substr(key, 7), value->>'volume',
    COALESCE(strftime('%s', value->>'since') * 1000000000, 0), COALESCE(value->>'by', '')
    FROM settings WHERE key LIKE 'mount %';

CREATE TABLE interrupted_restores (
    run INTEGER PRIMARY KEY, beneath TEXT NOT NULL, target TEXT NOT NULL, volume TEXT NOT NULL, paths TEXT NOT NULL,
    at TEXT NOT NULL, to_dir TEXT NOT NULL, in_place INTEGER NOT NULL, into_volume TEXT NOT NULL,
    on_conflict TEXT NOT NULL, from_site TEXT NOT NULL, external TEXT NOT NULL, snapshot TEXT NOT NULL,
    safety TEXT NOT NULL, undoes INTEGER NOT NULL, beside TEXT NOT NULL, owner TEXT NOT NULL, recipe TEXT NOT NULL,
    own_copy INTEGER NOT NULL, times INTEGER NOT NULL
);
INSERT INTO interrupted_restores SELECT CAST(substr(key, 11) AS INTEGER), value->>'beneath', value->>'target',
    COALESCE(value->>'$.ask.volume', ''), COALESCE(value->'$.ask.paths', '[]'), COALESCE(value->>'$.ask.at', ''),
    COALESCE(value->>'$.ask.to', ''), COALESCE(value->>'$.ask.inPlace', 0), COALESCE(value->>'$.ask.into', ''),
    COALESCE(value->>'$.ask.onConflict', ''), COALESCE(value->>'$.ask.from', ''), COALESCE(value->>'$.ask.found', ''),
    COALESCE(value->>'snapshot', ''), COALESCE(value->>'safety', ''), COALESCE(value->>'undoes', 0),
    CASE WHEN json_type(value, '$.beside') = 'array' THEN value->'beside' ELSE '[]' END,
    COALESCE(value->>'owner', ''), COALESCE(value->>'recipe', ''), COALESCE(value->>'exact', 0),
    COALESCE(value->>'times', 0)
    FROM settings WHERE key LIKE 'restoring %';

CREATE TABLE external_sources (
    volume TEXT PRIMARY KEY, pattern TEXT NOT NULL, zone TEXT NOT NULL
);
INSERT INTO external_sources SELECT substr(key, 7), value->>'pattern', COALESCE(value->>'zone', '')
    FROM settings WHERE key LIKE 'found %';

CREATE TABLE scheduled_tasks (
    task TEXT PRIMARY KEY, kept_until INTEGER NOT NULL
);
INSERT INTO scheduled_tasks SELECT substr(key, 11), strftime('%s', value) * 1000000000
    FROM settings WHERE key LIKE 'appointed %';

CREATE TABLE places (
    name TEXT PRIMARY KEY, path TEXT NOT NULL
);
INSERT INTO places SELECT p.key, p.value FROM settings s, json_each(s.value) p WHERE s.key = 'places';

CREATE TABLE peer_histories (
    peer TEXT PRIMARY KEY, starts TEXT NOT NULL DEFAULT '[]', put_back INTEGER NOT NULL DEFAULT 0,
    owed_again INTEGER NOT NULL DEFAULT 0, two_sites INTEGER NOT NULL DEFAULT 0,
    ledger_entries INTEGER NOT NULL DEFAULT 0, ledger_sum TEXT NOT NULL DEFAULT ''
);
INSERT INTO peer_histories (peer) SELECT DISTINCT substr(key, CASE
    WHEN key LIKE 'seen starts of %' THEN 16 WHEN key LIKE 'put back: %' THEN 11
    WHEN key LIKE 'two sites: %' THEN 12 ELSE 11 END)
    FROM settings WHERE key LIKE 'seen starts of %' OR key LIKE 'put back: %' OR key LIKE 'two sites: %'
    OR key LIKE 'ledger of %';
UPDATE peer_histories SET
    starts = COALESCE((SELECT value FROM settings WHERE key = 'seen starts of ' || peer), '[]'),
    put_back = COALESCE((SELECT strftime('%s', value->>'at') * 1000000000 FROM settings
        WHERE key = 'put back: ' || peer), 0),
    owed_again = COALESCE((SELECT value->>'owedAgain' FROM settings WHERE key = 'put back: ' || peer), 0),
    two_sites = COALESCE((SELECT strftime('%s', value) * 1000000000 FROM settings
        WHERE key = 'two sites: ' || peer), 0),
    ledger_entries = COALESCE((SELECT CAST(substr(value, 1, instr(value, ' ') - 1) AS INTEGER) FROM settings
        WHERE key = 'ledger of ' || peer), 0),
    ledger_sum = COALESCE((SELECT substr(value, instr(value, ' ') + 1) FROM settings
        WHERE key = 'ledger of ' || peer), '');

CREATE TABLE former_keys (
    key TEXT PRIMARY KEY, until INTEGER NOT NULL
);
INSERT INTO former_keys SELECT substr(key, 12), COALESCE(strftime('%s', value) * 1000000000, 0)
    FROM settings WHERE key LIKE 'former key %';

CREATE TABLE histories (
    lineage TEXT PRIMARY KEY, term INTEGER NOT NULL DEFAULT 0, ground TEXT NOT NULL DEFAULT '',
    meant INTEGER NOT NULL DEFAULT 0, doubt TEXT NOT NULL DEFAULT '', doubt_since INTEGER NOT NULL DEFAULT 0,
    files_before INTEGER NOT NULL DEFAULT 0, files_now INTEGER NOT NULL DEFAULT 0
);
INSERT INTO histories (lineage) SELECT DISTINCT substr(key, instr(key, ' ') + 1) FROM settings
    WHERE key LIKE 'term %' OR key LIKE 'ground %' OR key LIKE 'doubt %' OR key LIKE 'meant %';
UPDATE histories SET
    term = COALESCE((SELECT CAST(value AS INTEGER) FROM settings WHERE key = 'term ' || lineage), 0),
    ground = COALESCE((SELECT value FROM settings WHERE key = 'ground ' || lineage), ''),
    meant = COALESCE((SELECT CAST(value AS INTEGER) * 1000000000 FROM settings WHERE key = 'meant ' || lineage), 0),
    doubt = COALESCE((SELECT value->>'code' FROM settings WHERE key = 'doubt ' || lineage), ''),
    doubt_since = COALESCE((SELECT strftime('%s', value->>'since') * 1000000000 FROM settings
        WHERE key = 'doubt ' || lineage), 0),
    files_before = COALESCE((SELECT value->>'was' FROM settings WHERE key = 'doubt ' || lineage), 0),
    files_now = COALESCE((SELECT value->>'is' FROM settings WHERE key = 'doubt ' || lineage), 0);

CREATE TABLE derived (
    route TEXT NOT NULL, lineage TEXT NOT NULL, snapshot TEXT NOT NULL, PRIMARY KEY (route, lineage)
);
INSERT INTO derived SELECT substr(key, 9, length(key) - 41), substr(key, -32), value
    FROM settings WHERE key LIKE 'derived % %';

-- When the peer was put back with which it was last compared what a route had carried.
ALTER TABLE routes ADD COLUMN compared INTEGER NOT NULL DEFAULT 0;
UPDATE routes SET compared = COALESCE((SELECT strftime('%s', value) * 1000000000 FROM settings
    WHERE key = 'compared with ' || routes.name), 0);

DELETE FROM settings WHERE key LIKE 'clone %' OR key LIKE 'recipe %' OR key LIKE 'mount %' OR key LIKE 'restoring %'
    OR key LIKE 'found %' OR key LIKE 'appointed %' OR key = 'places' OR key LIKE 'seen starts of %'
    OR key LIKE 'put back: %' OR key LIKE 'two sites: %' OR key LIKE 'ledger of %' OR key LIKE 'former key %'
    OR key LIKE 'term %' OR key LIKE 'ground %' OR key LIKE 'doubt %' OR key LIKE 'meant %'
    OR key LIKE 'derived % %' OR key LIKE 'compared with %';
