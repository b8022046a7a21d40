-- +goose Up

-- Roles belong to the whole server, so several databases may race to make them.
-- +goose StatementBegin
DO $$
BEGIN
  PERFORM pg_advisory_xact_lock(7243105518);
  IF NOT EXISTS (SELECT FROM pg_roles WHERE rolname = 'trellis_api') THEN
    CREATE ROLE trellis_api NOLOGIN;
  END IF;
  IF NOT EXISTS (SELECT FROM pg_roles WHERE rolname = 'trellis_node') THEN
    CREATE ROLE trellis_node NOLOGIN;
  END IF;
  IF NOT EXISTS (SELECT FROM pg_roles WHERE rolname = 'trellis_people') THEN
    CREATE ROLE trellis_people NOLOGIN;
  END IF;
  IF NOT pg_has_role(CURRENT_USER, 'trellis_people', 'MEMBER') THEN
    EXECUTE format('GRANT trellis_people TO %I', CURRENT_USER);
  END IF;
  IF NOT pg_has_role(CURRENT_USER, 'trellis_api', 'MEMBER') THEN
    EXECUTE format('GRANT trellis_api TO %I', CURRENT_USER);
  END IF;
  IF NOT pg_has_role(CURRENT_USER, 'trellis_node', 'MEMBER') THEN
    EXECUTE format('GRANT trellis_node TO %I', CURRENT_USER);
  END IF;
EXCEPTION WHEN duplicate_object OR unique_violation THEN NULL;
END $$;
-- +goose StatementEnd

-- As whom each pool logs in: roles of this database alone, each in one of the three
-- above and in nothing else, so that a connection cannot become another. Nobody but
-- the owner reads it, who may make such roles anyway.
CREATE TABLE login (
  role     text PRIMARY KEY, -- trellis_api, trellis_node or trellis_people
  name     text NOT NULL,
  password text NOT NULL
);

CREATE TABLE workspace (
  id      uuid PRIMARY KEY,
  name    text NOT NULL CHECK (name <> ''),
  created timestamptz NOT NULL DEFAULT now()
);

CREATE TABLE person (
  id       uuid PRIMARY KEY,
  email    text NOT NULL,
  name     text NOT NULL,
  password text NOT NULL, -- argon2id
  created  timestamptz NOT NULL DEFAULT now()
);
CREATE UNIQUE INDEX person_email ON person (lower(email));

CREATE TABLE member (
  workspace_id uuid NOT NULL REFERENCES workspace ON DELETE CASCADE,
  person_id    uuid NOT NULL REFERENCES person ON DELETE CASCADE,
  role         text NOT NULL CHECK (role IN ('viewer', 'operator', 'builder', 'administrator', 'owner')),
  items        boolean NOT NULL DEFAULT false, -- a viewer who may see what items hold
  PRIMARY KEY (workspace_id, person_id)
);

CREATE TABLE browser_session (
  hash         bytea PRIMARY KEY, -- SHA-256 of the cookie
  person_id    uuid NOT NULL,
  workspace_id uuid NOT NULL,
  created      timestamptz NOT NULL DEFAULT now(),
  seen         timestamptz NOT NULL DEFAULT now(),
  FOREIGN KEY (workspace_id, person_id) REFERENCES member ON DELETE CASCADE
);

-- Devices from which a person has signed in before.
CREATE TABLE known_device (
  hash      bytea PRIMARY KEY, -- SHA-256 of what the device keeps
  person_id uuid NOT NULL REFERENCES person ON DELETE CASCADE,
  seen      timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX known_device_person ON known_device (person_id, seen);

CREATE TABLE api_token (
  workspace_id uuid NOT NULL,
  id           uuid NOT NULL,
  person_id    uuid NOT NULL,
  name         text NOT NULL,
  hash         bytea NOT NULL UNIQUE,
  role         text NOT NULL,
  items        boolean NOT NULL DEFAULT false, -- with the role viewer: it may see what items hold
  makes        boolean NOT NULL DEFAULT false, -- it may make tokens, which end with it
  parent_id    uuid, -- the token that made it
  created      timestamptz NOT NULL DEFAULT now(),
  expires      timestamptz NOT NULL,
  used         timestamptz,
  PRIMARY KEY (workspace_id, id),
  FOREIGN KEY (workspace_id, parent_id) REFERENCES api_token ON DELETE CASCADE,
  FOREIGN KEY (workspace_id, person_id) REFERENCES member ON DELETE CASCADE
);

-- The keyset that wraps the data keys lies outside; only its fingerprint here.
CREATE TABLE vault (
  only_row    boolean PRIMARY KEY DEFAULT true CHECK (only_row),
  fingerprint text NOT NULL
);

CREATE TABLE data_key (
  workspace_id uuid PRIMARY KEY REFERENCES workspace ON DELETE CASCADE,
  sealed       bytea NOT NULL,
  mac          bytea -- a key for codes and digests, sealed; it outlives every rotation
);

CREATE TABLE connection (
  workspace_id  uuid NOT NULL REFERENCES workspace ON DELETE CASCADE,
  id            uuid NOT NULL,
  name          text NOT NULL,
  connector     text NOT NULL,
  version       integer NOT NULL,
  account       jsonb NOT NULL,
  method        text NOT NULL,
  secret        bytea NOT NULL, -- sealed for this row and column
  hint          text NOT NULL,  -- the last four characters at most
  pin           text NOT NULL,  -- scheme, host and port to which the secret may go
  state         text NOT NULL DEFAULT 'unchecked' CHECK (state IN ('unchecked', 'ok', 'broken', 'consent', 'confirm')),
  said          text NOT NULL DEFAULT '',
  checked       timestamptz,
  took_ms       integer,
  created       timestamptz NOT NULL DEFAULT now(),
  token         bytea,                        -- OAuth 2 tokens, sealed for this row and column
  token_version integer NOT NULL DEFAULT 0,   -- rises with every refresh
  token_expires timestamptz,
  token_pin     text NOT NULL DEFAULT '',     -- where the client secret may go
  redirect      text NOT NULL DEFAULT '',
  scopes        text[],                       -- granted; null if they are not known
  wanted        text[],                       -- scopes asked for
  missing       text[] NOT NULL DEFAULT '{}', -- what the plan lacks, in words
  plan_left     text NOT NULL DEFAULT '',
  limits        jsonb,                        -- instead of the connector's own
  everyone      boolean NOT NULL DEFAULT true, -- every builder may use it
  PRIMARY KEY (workspace_id, id),
  UNIQUE (workspace_id, name)
);

-- Addresses that are not public and that an administrator allowed all the same.
CREATE TABLE allowance (
  workspace_id uuid NOT NULL REFERENCES workspace ON DELETE CASCADE,
  address      text NOT NULL, -- host:port
  PRIMARY KEY (workspace_id, address)
);

-- Who may build with a connection, where not everyone may, and for which actions.
CREATE TABLE connection_grant (
  workspace_id  uuid NOT NULL,
  connection_id uuid NOT NULL,
  person_id     uuid NOT NULL,
  actions       text[], -- null: all
  PRIMARY KEY (workspace_id, connection_id, person_id),
  FOREIGN KEY (workspace_id, connection_id) REFERENCES connection ON DELETE CASCADE,
  FOREIGN KEY (workspace_id, person_id) REFERENCES member ON DELETE CASCADE
);

-- The gate through which every call of a limited connection goes, on all nodes.
CREATE TABLE connection_gate (
  workspace_id  uuid NOT NULL,
  connection_id uuid NOT NULL,
  due           timestamptz NOT NULL DEFAULT '-infinity', -- when the next call may begin
  held          timestamptz NOT NULL DEFAULT '-infinity', -- told to wait until then
  why           text NOT NULL DEFAULT '',
  PRIMARY KEY (workspace_id, connection_id),
  FOREIGN KEY (workspace_id, connection_id) REFERENCES connection ON DELETE CASCADE
);
CREATE TABLE connection_permit (
  workspace_id  uuid NOT NULL,
  connection_id uuid NOT NULL,
  id            uuid NOT NULL,
  session_id    uuid, -- of the node that has it; null outside of runs
  until         timestamptz NOT NULL, -- it counts no longer, whatever became of its node
  PRIMARY KEY (workspace_id, connection_id, id),
  FOREIGN KEY (workspace_id, connection_id) REFERENCES connection ON DELETE CASCADE
);

-- The last calls of each connection, kept short by the writer.
CREATE TABLE connection_call (
  workspace_id  uuid NOT NULL,
  connection_id uuid NOT NULL,
  id            uuid NOT NULL,
  method        text NOT NULL,
  address       text NOT NULL, -- secrets masked
  status        integer NOT NULL,
  failure       text NOT NULL DEFAULT '',
  took_ms       integer NOT NULL,
  run_id        uuid,
  PRIMARY KEY (workspace_id, connection_id, id),
  FOREIGN KEY (workspace_id, connection_id) REFERENCES connection ON DELETE CASCADE
);

-- An authorization under way: single use, ten minutes, for one person.
CREATE TABLE consent (
  state         bytea PRIMARY KEY, -- SHA-256
  workspace_id  uuid NOT NULL,
  connection_id uuid NOT NULL,
  person_id     uuid NOT NULL,
  session       bytea, -- hash of the browser's cookie; null from the command line
  verifier      bytea NOT NULL, -- sealed
  id            uuid NOT NULL,
  redirect      text NOT NULL,
  expires       timestamptz NOT NULL,
  FOREIGN KEY (workspace_id, connection_id) REFERENCES connection ON DELETE CASCADE
);

-- Connector documents of a workspace, and those that a revision was made with.
CREATE TABLE connector_version (
  workspace_id uuid NOT NULL REFERENCES workspace ON DELETE CASCADE,
  name         text NOT NULL,
  version      integer NOT NULL,
  document     text NOT NULL,
  own          boolean NOT NULL, -- made here; else a copy of a shipped one
  made         timestamptz NOT NULL DEFAULT now(),
  made_by      text NOT NULL,
  PRIMARY KEY (workspace_id, name, version)
);
-- Workspace lists. Rows are kept for as long as a change that they belong to is told:
-- one that was changed or removed says in which version that was.
CREATE TABLE list (
  workspace_id uuid NOT NULL REFERENCES workspace ON DELETE CASCADE,
  id           uuid NOT NULL,
  name         text NOT NULL,
  title        text NOT NULL,
  about        text NOT NULL DEFAULT '',
  columns      jsonb NOT NULL,
  version      integer NOT NULL DEFAULT 1,
  rows         integer NOT NULL DEFAULT 0, -- that stand
  changed      timestamptz NOT NULL DEFAULT now(),
  changed_by   text NOT NULL,
  PRIMARY KEY (workspace_id, id),
  UNIQUE (workspace_id, name)
);
CREATE TABLE list_row (
  workspace_id uuid NOT NULL,
  list_id      uuid NOT NULL,
  since        integer NOT NULL, -- the version that made it so
  key          text NOT NULL,
  place        integer NOT NULL,
  fields       text NOT NULL,
  until        integer, -- the version from which on it is another, or gone; NULL: it stands
  PRIMARY KEY (workspace_id, list_id, since, key),
  FOREIGN KEY (workspace_id, list_id) REFERENCES list ON DELETE CASCADE
);
CREATE UNIQUE INDEX list_row_stands ON list_row (workspace_id, list_id, key) WHERE until IS NULL;
CREATE INDEX list_row_until ON list_row (workspace_id, list_id, until) WHERE until IS NOT NULL;
CREATE TABLE list_change (
  workspace_id uuid NOT NULL,
  list_id      uuid NOT NULL,
  version      integer NOT NULL,
  at           timestamptz NOT NULL DEFAULT now(),
  changed_by   text NOT NULL,
  what         text NOT NULL, -- in words
  columns      jsonb NOT NULL, -- as they were then
  PRIMARY KEY (workspace_id, list_id, version),
  FOREIGN KEY (workspace_id, list_id) REFERENCES list ON DELETE CASCADE
);
CREATE TABLE workflow (
  workspace_id uuid NOT NULL REFERENCES workspace ON DELETE CASCADE,
  id           uuid NOT NULL,
  name         text NOT NULL,
  title        text NOT NULL,
  draft        text NOT NULL,
  version      bigint NOT NULL DEFAULT 1,
  changed_by   text NOT NULL DEFAULT '', -- who saved the draft last
  state        text NOT NULL DEFAULT 'draft' CHECK (state IN ('draft', 'live', 'paused')),
  live         integer, -- number of the live revision
  stated       timestamptz NOT NULL DEFAULT now(), -- since when it is in its state
  stated_by    text NOT NULL DEFAULT '',
  numbers      jsonb NOT NULL DEFAULT '{}', -- lasting number of every step name
  hook         text NOT NULL UNIQUE, -- 128 random bits
  path         text UNIQUE, -- in place of these, as the live revision says; of the whole service
  taking_until timestamptz, -- the next delivery until then becomes a sample
  taking_plain boolean NOT NULL DEFAULT false, -- as it comes, with what is personal in it
  filled_on    date,                       -- when its form was last filled in
  filled       integer NOT NULL DEFAULT 0, -- how often on that day
  created      timestamptz NOT NULL DEFAULT now(),
  updated      timestamptz NOT NULL DEFAULT now(),
  PRIMARY KEY (workspace_id, id),
  UNIQUE (workspace_id, name)
);

-- What callers of a workflow's address prove: one, or two while they change to another.
CREATE TABLE hook_secret (
  workspace_id uuid NOT NULL,
  workflow_id  uuid NOT NULL,
  id           uuid NOT NULL,
  secret       bytea NOT NULL, -- sealed for this row and column
  made         timestamptz NOT NULL DEFAULT now(),
  made_by      text NOT NULL,
  used         timestamptz, -- when a call was proven by it last, within a minute
  PRIMARY KEY (workspace_id, workflow_id, id),
  FOREIGN KEY (workspace_id, workflow_id) REFERENCES workflow ON DELETE CASCADE
);

CREATE TABLE revision (
  workspace_id uuid NOT NULL,
  workflow_id  uuid NOT NULL,
  number       integer NOT NULL,
  document     text NOT NULL,
  numbers      jsonb NOT NULL,
  connectors   jsonb NOT NULL DEFAULT '{}', -- name to version
  library      smallint NOT NULL,           -- number of the functions that its expressions know
  parallel_runs integer NOT NULL DEFAULT 0, -- runs at once; 0: any number
  deadline     interval,                    -- of a run, from its acceptance on
  at_first     integer NOT NULL DEFAULT 0,  -- how many items its next run takes to its first write before a person has looked; that run takes it away
  made         timestamptz NOT NULL DEFAULT now(),
  made_by      text NOT NULL,
  PRIMARY KEY (workspace_id, workflow_id, number),
  FOREIGN KEY (workspace_id, workflow_id) REFERENCES workflow ON DELETE CASCADE
);

CREATE TABLE sample (
  workspace_id uuid NOT NULL,
  workflow_id  uuid NOT NULL,
  id           uuid NOT NULL,
  fields       text NOT NULL, -- JSON; text keeps long numbers
  source       text NOT NULL,
  expected     text NOT NULL DEFAULT '', -- JSON: what should become of it
  created      timestamptz NOT NULL DEFAULT now(),
  PRIMARY KEY (workspace_id, workflow_id, id),
  FOREIGN KEY (workspace_id, workflow_id) REFERENCES workflow ON DELETE CASCADE
);

-- What arrived at a webhook of late, refused ones too. Kept short by the writer.
CREATE TABLE delivery (
  workspace_id uuid NOT NULL,
  workflow_id  uuid NOT NULL,
  id           uuid NOT NULL,
  verdict      text NOT NULL, -- duplicate, sample, kept, refused, answered
  reason       text NOT NULL DEFAULT '',
  run_id       uuid,
  bytes        integer NOT NULL,
  excerpt      text NOT NULL DEFAULT '',
  items        bytea, -- that it brought, packed, where it could be read and they are not large
  PRIMARY KEY (workspace_id, workflow_id, id),
  FOREIGN KEY (workspace_id, workflow_id) REFERENCES workflow ON DELETE CASCADE
);

-- What called while a workflow was paused: somebody says whether it starts in order, or
-- is dismissed.
CREATE TABLE kept_event (
  workspace_id uuid NOT NULL,
  workflow_id  uuid NOT NULL,
  id           uuid NOT NULL, -- of version 7: in the order in which they came
  items        bytea NOT NULL, -- zstd of a JSON list
  bytes        integer NOT NULL,
  starting     timestamptz, -- from when on it is to start; NULL: it waits for somebody
  keys         text[],      -- start keys by which a repeat of it is known; the last is its own
  PRIMARY KEY (workspace_id, workflow_id, id),
  FOREIGN KEY (workspace_id, workflow_id) REFERENCES workflow ON DELETE CASCADE
);
CREATE INDEX kept_event_starting ON kept_event (workspace_id, workflow_id, id) WHERE starting IS NOT NULL;
CREATE UNIQUE INDEX kept_event_key ON kept_event (workspace_id, workflow_id, (keys[array_upper(keys, 1)])) WHERE keys IS NOT NULL;
CREATE INDEX kept_event_id ON kept_event (id) WHERE starting IS NULL;

-- A key that started a run starts nothing again until it expires. Its
-- uniqueness spans days, so it is not partitioned.
CREATE TABLE start_key (
  workspace_id uuid NOT NULL,
  workflow_id  uuid NOT NULL,
  key          text NOT NULL,
  run_id       uuid NOT NULL,
  expires      timestamptz NOT NULL,
  PRIMARY KEY (workspace_id, workflow_id, key),
  FOREIGN KEY (workspace_id, workflow_id) REFERENCES workflow ON DELETE CASCADE
);
CREATE INDEX start_key_expires ON start_key (expires);

CREATE TABLE node_session (
  id      uuid PRIMARY KEY,
  node    text NOT NULL,
  beat    bigint NOT NULL DEFAULT 0,
  started timestamptz NOT NULL DEFAULT now(),
  seen    timestamptz NOT NULL DEFAULT now(), -- of the last beat
  ended   timestamptz,
  begun   uuid[]                              -- where it died: workflows of which it carried out runs
);
CREATE INDEX node_session_open ON node_session (node) WHERE ended IS NULL;
CREATE INDEX node_session_died ON node_session (ended) WHERE begun IS NOT NULL;

-- Begins every transaction of a node: an ended session writes nothing more.
-- +goose StatementBegin
CREATE FUNCTION hold_session(session uuid) RETURNS void LANGUAGE plpgsql AS $$
BEGIN
  PERFORM FROM node_session WHERE id = session AND ended IS NULL FOR KEY SHARE;
  IF NOT FOUND THEN
    RAISE EXCEPTION 'the session has ended' USING ERRCODE = 'YT001';
  END IF;
END $$;
-- +goose StatementEnd

-- Ends the database sessions of a dead node that keep its takeover waiting: a
-- node that lost power in the middle of a batch says no goodbye, and its server
-- process would hold the row for hours. Only those that block the waiting
-- process, and only those of that node.
-- +goose StatementBegin
CREATE FUNCTION end_blockers(waiting integer, session uuid) RETURNS integer LANGUAGE plpgsql SECURITY DEFINER SET search_path = pg_catalog, public AS $$
DECLARE
  blocker integer;
  n integer := 0;
BEGIN
  FOR blocker IN
    SELECT a.pid FROM unnest(pg_blocking_pids(waiting)) AS b(pid) JOIN pg_stat_activity a USING (pid)
    JOIN node_session s ON s.id = session AND s.ended IS NULL AND a.application_name = 'trellis ' || s.node
  LOOP
    PERFORM pg_terminate_backend(blocker);
    n := n + 1;
  END LOOP;
  RETURN n;
END $$;
-- +goose StatementEnd
REVOKE ALL ON FUNCTION end_blockers(integer, uuid) FROM PUBLIC;
GRANT EXECUTE ON FUNCTION end_blockers(integer, uuid) TO trellis_node;

-- Every run that is queued, running, waiting or in a further pass.
CREATE TABLE live (
  workspace_id uuid NOT NULL,
  run_id       uuid NOT NULL,
  workflow_id  uuid NOT NULL,
  state        text NOT NULL CHECK (state IN ('queued', 'running', 'waiting')),
  session_id   uuid, -- of a node; held by every transaction that sets it
  claim        integer NOT NULL DEFAULT 0,     -- rises with every owner; ends, parks and hand-backs name it
  begun        boolean NOT NULL DEFAULT false, -- it was not only taken
  pass         integer NOT NULL DEFAULT 1,
  trigger      text NOT NULL,
  label        text NOT NULL DEFAULT '',
  revision     integer NOT NULL,
  library      smallint NOT NULL,              -- the newest of its passes' revisions: only nodes that know it take it on
  accepted     timestamptz NOT NULL,
  wake         timestamptz,
  reason       text NOT NULL DEFAULT '',
  connection   text NOT NULL DEFAULT '',
  message      text NOT NULL DEFAULT '',
  called       boolean NOT NULL DEFAULT false, -- a callback came while it was on its way
  woken        boolean NOT NULL DEFAULT false, -- it had parked in good order, and only what is due need be looked at
  cancel       smallint NOT NULL DEFAULT 0,    -- 1: asked to end; 2: asked again, calls are cut
  cancelled_by text NOT NULL DEFAULT '',
  halt         boolean NOT NULL DEFAULT false, -- no further set-aside item is to be tried again
  takeovers    integer NOT NULL DEFAULT 0,     -- since it last got further
  interrupted  timestamptz,                    -- when an owner died since it last got further
  counts       bytea, -- JSON
  lane         text NOT NULL DEFAULT '',       -- what one_at_a_time_by gave: the first of a lane holds it, the others wait
  limited      boolean NOT NULL DEFAULT false, -- its workflow has parallel_runs: queued and running it takes a place
  ticket       bigint NOT NULL DEFAULT 0,      -- its place in line, of those in a lane or limited
  deadline     timestamptz,
  hops         smallint NOT NULL DEFAULT 0,    -- how many runs led to this one, each started by the one before
  at_first     integer NOT NULL DEFAULT 0,     -- how many items it takes to its first write unless a person lets others go on; 0: any number
  PRIMARY KEY (workspace_id, run_id),
  FOREIGN KEY (workspace_id, workflow_id) REFERENCES workflow ON DELETE CASCADE
);
CREATE SEQUENCE live_ticket;
CREATE INDEX live_lane ON live (workspace_id, workflow_id, lane, ticket) WHERE lane <> '';
CREATE INDEX live_placed ON live (workspace_id, workflow_id) WHERE limited AND state <> 'waiting';
CREATE INDEX live_lined ON live (workspace_id) WHERE state = 'waiting' AND reason IN ('lane', 'place');
CREATE INDEX live_unplaced ON live (workspace_id, workflow_id, ticket) WHERE state = 'waiting' AND reason = 'place';
-- Claiming: the oldest queued run of each workspace.
CREATE INDEX live_queued ON live (workspace_id, run_id) WHERE state = 'queued';
-- What a node owns: to compare with its register, and to give it back when it dies.
CREATE INDEX live_session ON live (session_id) WHERE session_id IS NOT NULL;
-- What was cancelled of what a node carries out; asked with every batch.
CREATE INDEX live_cancel ON live (session_id) WHERE cancel > 0 OR halt;
CREATE INDEX live_wake ON live (wake) WHERE state = 'waiting';
-- The list of runs of a workspace is read from the primary key, backwards.

CREATE TABLE run (
  workspace_id uuid NOT NULL,
  run_id       uuid NOT NULL,
  workflow_id  uuid NOT NULL,
  state        text NOT NULL,
  pass         integer NOT NULL,
  trigger      text NOT NULL,
  label        text NOT NULL,
  revision     integer NOT NULL,
  accepted     timestamptz NOT NULL,
  ended        timestamptz NOT NULL,
  message      text NOT NULL,
  counts       bytea, -- JSON
  lane         text NOT NULL DEFAULT '', -- in which it lines up again when it is resumed
  hops         smallint NOT NULL DEFAULT 0,
  at_first     integer NOT NULL DEFAULT 0,
  PRIMARY KEY (workspace_id, run_id)
) PARTITION BY RANGE (run_id);
-- A workspace's list is read from the primary key, backwards; these are for the
-- lists by workflow, by state, and by both.
CREATE INDEX run_by_workflow ON run (workspace_id, workflow_id, run_id DESC);
CREATE INDEX run_by_state ON run (workspace_id, state, run_id DESC);
CREATE INDEX run_by_workflow_and_state ON run (workspace_id, workflow_id, state, run_id DESC);

CREATE TABLE pass (
  workspace_id uuid NOT NULL,
  run_id       uuid NOT NULL,
  number       integer NOT NULL,
  workflow_id  uuid NOT NULL,
  revision     integer NOT NULL,
  kind         text NOT NULL CHECK (kind IN ('first', 'resume', 'retry')),
  chosen       text[], -- addresses of a retry; null for all that are set aside, or open
  moves        jsonb,  -- at which step items go on: old name to new
  mended       boolean NOT NULL DEFAULT false, -- the journal has fields or ends that a person gave
  started      timestamptz NOT NULL,
  started_by   text NOT NULL,
  PRIMARY KEY (workspace_id, run_id, number)
) PARTITION BY RANGE (run_id);

CREATE TABLE journal (
  workspace_id uuid NOT NULL,
  run_id       uuid NOT NULL,
  pass         integer NOT NULL,
  step         integer NOT NULL,
  rounds       bytea NOT NULL,
  address      bytea NOT NULL,
  part         integer NOT NULL,
  outcome      text NOT NULL,
  generation   integer NOT NULL DEFAULT 0, -- of the Idempotency-Key
  input_hash   bytea,
  attempts     integer NOT NULL,
  started      timestamptz NOT NULL,
  ended        timestamptz NOT NULL,
  units        double precision NOT NULL,
  first        bigint NOT NULL DEFAULT 0, -- ordinal of the first item of a page
  result       bytea, -- secrets masked
  sealed       bytea, -- the result as it came, where it held secrets
  request      bytea,
  failure      bytea,
  PRIMARY KEY (workspace_id, run_id, pass, step, rounds, address, part)
) PARTITION BY RANGE (run_id);

-- Sealed results are sealed anew when keys are rotated.
CREATE INDEX journal_sealed ON journal (workspace_id) WHERE sealed IS NOT NULL;

-- Results that a node still held when it lost its session. The run's owner makes
-- them entries, whenever they come.
CREATE TABLE stray (LIKE journal INCLUDING DEFAULTS, came timestamptz NOT NULL DEFAULT now(),
  PRIMARY KEY (workspace_id, run_id, pass, step, rounds, address, part));

-- Items that wait until a time. They are rows only: nothing of them is in memory.
-- Rows of runs that are over are swept.
CREATE TABLE waiting (
  workspace_id uuid NOT NULL,
  run_id       uuid NOT NULL,
  step         integer NOT NULL,
  rounds       bytea NOT NULL,
  address      bytea NOT NULL,
  due          timestamptz NOT NULL,
  page         integer, -- of the lattice, where its row stands; null: not written yet
  PRIMARY KEY (workspace_id, run_id, step, rounds, address)
);
-- What of a run is due.
CREATE INDEX waiting_due ON waiting (workspace_id, run_id, due);

-- Items that wait for a person: set aside, or perhaps sent. Of a run that is in a
-- further pass, its rows are those of the pass before until it has ended.
CREATE TABLE aside (
  workspace_id uuid NOT NULL,
  run_id       uuid NOT NULL,
  address      bytea NOT NULL,
  workflow_id  uuid NOT NULL,
  step         integer NOT NULL, -- lasting number
  step_name    text NOT NULL,
  rounds       bytea NOT NULL,
  kind         text NOT NULL CHECK (kind IN ('set_aside', 'may_have_been_sent')),
  label        text NOT NULL,
  why          text NOT NULL,
  alike        text NOT NULL, -- why, without what differs from item to item
  since        timestamptz NOT NULL,
  pass         integer NOT NULL, -- with claim: the execution that says so
  claim        integer NOT NULL,
  dismissed    timestamptz,
  dismissed_by text,
  PRIMARY KEY (workspace_id, run_id, address)
);
-- What waits, by its error; and the newest of it.
CREATE INDEX aside_alike ON aside (workspace_id, workflow_id, step, alike) WHERE dismissed IS NULL;
CREATE INDEX aside_since ON aside (workspace_id, since DESC, run_id, address) WHERE dismissed IS NULL;

-- By what items are found again: a hash of what their workflow's find_by gives.
CREATE TABLE found (
  workspace_id uuid NOT NULL,
  workflow_id  uuid NOT NULL,
  key          bytea NOT NULL,
  run_id       uuid NOT NULL,
  address      bytea NOT NULL,
  PRIMARY KEY (workspace_id, workflow_id, key, run_id, address)
);
-- What one item is found by.
CREATE INDEX found_item ON found (workspace_id, run_id, address);

-- What people do with many such items at once, run by run.
CREATE TABLE mending (
  workspace_id uuid NOT NULL,
  id           uuid NOT NULL,
  what         text NOT NULL CHECK (what IN ('retry', 'confirm')),
  newest       boolean NOT NULL, -- with the live revision instead of each run's own
  started      timestamptz NOT NULL DEFAULT now(),
  started_by   text NOT NULL,
  cancelled    timestamptz,
  cancelled_by text NOT NULL DEFAULT '',
  PRIMARY KEY (workspace_id, id)
);
CREATE TABLE mending_run (
  workspace_id uuid NOT NULL,
  mending_id   uuid NOT NULL,
  run_id       uuid NOT NULL,
  addresses    bytea[] NOT NULL,
  edits        jsonb, -- fields by address, as text
  state        text NOT NULL DEFAULT 'pending' CHECK (state IN ('pending', 'begun', 'refused', 'cancelled')),
  pass         integer,
  message      text NOT NULL DEFAULT '',
  PRIMARY KEY (workspace_id, mending_id, run_id),
  FOREIGN KEY (workspace_id, mending_id) REFERENCES mending ON DELETE CASCADE
);
-- What is to be begun next.
CREATE INDEX mending_pending ON mending_run (workspace_id, mending_id) WHERE state = 'pending';

CREATE TABLE lattice (
  workspace_id uuid NOT NULL,
  run_id       uuid NOT NULL,
  pass         integer NOT NULL,
  page         integer NOT NULL,
  body         bytea NOT NULL, -- zstd of JSON rows
  shape        bytea NOT NULL, -- zstd of JSON: of which kinds the rows are, one after the other
  keys         bytea NOT NULL, -- six bytes for each row, by which the page of an address is found
  PRIMARY KEY (workspace_id, run_id, pass, page)
) PARTITION BY RANGE (run_id);

-- Addresses that wake a run when they are called. The token is made of the
-- place, so that it is the same at every attempt.
CREATE TABLE callback (
  hash         bytea PRIMARY KEY, -- SHA-256 of the address's token
  workspace_id uuid NOT NULL,
  run_id       uuid NOT NULL,
  step         integer NOT NULL,
  rounds       bytea NOT NULL,
  address      bytea NOT NULL,
  expires      timestamptz NOT NULL
);
CREATE INDEX callback_expires ON callback (expires);

-- What whoever set a run off is answered, and by whom: the first item that came to an
-- answer. The address's token is made of the run, so that it is the same whenever it is
-- given.
CREATE TABLE answer (
  workspace_id uuid NOT NULL,
  run_id       uuid NOT NULL,
  reply        bytea, -- packed; null: there is none yet
  pass         integer,
  step         integer,
  rounds       bytea,
  address      bytea,
  workflow_id  uuid,         -- of the run; with the token
  hash         bytea UNIQUE, -- SHA-256 of the token; null: nobody was given it
  placed       timestamptz,  -- when it was given first
  expires      timestamptz NOT NULL,
  PRIMARY KEY (workspace_id, run_id)
);
CREATE INDEX answer_expires ON answer (expires);

-- Files by their content. Chunks have an id of their own, so that a file can be
-- written before its hash is known.
CREATE TABLE file (
  workspace_id uuid NOT NULL REFERENCES workspace ON DELETE CASCADE,
  hash         bytea NOT NULL,
  id           uuid NOT NULL,
  size         bigint NOT NULL,
  used         timestamptz NOT NULL DEFAULT now(),
  PRIMARY KEY (workspace_id, hash)
);
CREATE TABLE file_chunk (
  workspace_id uuid NOT NULL,
  id           uuid NOT NULL,
  number       integer NOT NULL,
  body         bytea NOT NULL,
  PRIMARY KEY (workspace_id, id, number)
);
ALTER TABLE file_chunk ALTER COLUMN body SET STORAGE EXTERNAL; -- sound and pictures do not shrink

CREATE TABLE rehearsal (
  workspace_id uuid NOT NULL,
  workflow_id  uuid NOT NULL,
  made         timestamptz NOT NULL DEFAULT now(),
  body         bytea NOT NULL,
  recording    bytea, -- what it has read, sealed
  PRIMARY KEY (workspace_id, workflow_id),
  FOREIGN KEY (workspace_id, workflow_id) REFERENCES workflow ON DELETE CASCADE
);

-- When what starts by the clock is due next. Who claims a row starts its run and
-- moves it on before letting go of it; the run's key is that of the due time.
CREATE TABLE schedule (
  workspace_id uuid NOT NULL,
  workflow_id  uuid NOT NULL,
  reader       text NOT NULL DEFAULT '', -- of a schedule that each reader has at an hour of their own
  cadence      text NOT NULL, -- its sentence, which is read back
  zone         text NOT NULL,
  rules        text NOT NULL, -- those of the zone by which due was worked out
  anchor       timestamptz NOT NULL, -- from when intervals count
  previous     timestamptz NOT NULL, -- the time that started a run last, or when it went live
  due          timestamptz, -- NULL: it is never due again, or paused
  due_key      text NOT NULL DEFAULT '', -- by which that time is told from all others
  next         timestamptz, -- when it starts: due, or a little later on purpose
  missed       text NOT NULL CHECK (missed IN ('skip', 'once', 'all')),
  most         integer NOT NULL,
  trouble      text NOT NULL DEFAULT '', -- why it could not start the last time
  list         text NOT NULL DEFAULT '', -- of the workspace, whose rows are readers; this one is never due itself then
  list_version integer NOT NULL DEFAULT 0, -- by which the schedules of the readers were made; -1: by none yet
  PRIMARY KEY (workspace_id, workflow_id, reader),
  FOREIGN KEY (workspace_id, workflow_id) REFERENCES workflow ON DELETE CASCADE
);
CREATE INDEX schedule_next ON schedule (next) WHERE next IS NOT NULL;
CREATE INDEX schedule_soon ON schedule (workspace_id, next) WHERE next IS NOT NULL;
CREATE INDEX schedule_list ON schedule (workspace_id, list) WHERE list <> '';
CREATE INDEX schedule_zone ON schedule (zone, rules) WHERE next IS NOT NULL;

-- Which workflow starts after which other. Paused it is not there.
CREATE TABLE follower (
  workspace_id uuid NOT NULL,
  source_id    uuid NOT NULL, -- after a pass of this
  workflow_id  uuid NOT NULL, -- this starts
  states       text[] NOT NULL, -- in which the pass has ended
  PRIMARY KEY (workspace_id, source_id, workflow_id),
  FOREIGN KEY (workspace_id, source_id) REFERENCES workflow ON DELETE CASCADE,
  FOREIGN KEY (workspace_id, workflow_id) REFERENCES workflow ON DELETE CASCADE
);
CREATE INDEX follower_workflow ON follower (workspace_id, workflow_id);

-- Passes that have ended and whose followers are still to be started: written with the
-- pass's end, gone once the start is durable.
CREATE TABLE outcome (
  workspace_id uuid NOT NULL,
  workflow_id  uuid NOT NULL, -- that is to start; it may be gone
  source_id    uuid NOT NULL, -- of whose run
  run_id       uuid NOT NULL,
  pass         integer NOT NULL, -- this has ended
  state        text NOT NULL,
  message      text NOT NULL,
  counts       bytea,
  began        timestamptz NOT NULL,
  ended        timestamptz NOT NULL DEFAULT now(),
  hops         smallint NOT NULL, -- of the run that is to start
  due          timestamptz NOT NULL DEFAULT now(), -- when it is tried next
  PRIMARY KEY (workspace_id, workflow_id, run_id, pass)
);
CREATE INDEX outcome_due ON outcome (due);

-- Times that nobody could start anything at.
CREATE TABLE missed_time (
  workspace_id uuid NOT NULL,
  workflow_id  uuid NOT NULL,
  reader       text NOT NULL DEFAULT '',
  noted        timestamptz NOT NULL DEFAULT clock_timestamp(),
  first        timestamptz NOT NULL,
  last         timestamptz NOT NULL,
  times        integer NOT NULL,
  started      integer NOT NULL, -- how many of them started a run later
  PRIMARY KEY (workspace_id, workflow_id, reader, noted),
  FOREIGN KEY (workspace_id, workflow_id) REFERENCES workflow ON DELETE CASCADE
);
CREATE INDEX missed_time_noted ON missed_time (workspace_id, noted DESC);

-- Runs in line. A run of a lane waits (reason lane) until those before it are
-- over; a run of a workflow with parallel_runs waits (reason place) while as many are
-- queued or running. Whoever changes a line holds it until its transaction ends, so
-- that two never see the same place free. A transaction that changes several
-- holds them in one order, by hold_lines, before; one that does not may be chosen
-- by the server to break a deadlock, and is tried again.
-- +goose StatementBegin
CREATE FUNCTION hold_lines(workspaces uuid[], workflows uuid[], lanes text[]) RETURNS void LANGUAGE plpgsql AS $$
DECLARE line bigint;
BEGIN
  FOR line IN SELECT DISTINCT hashtextextended(x.workspace || '/' || x.workflow || '/' || x.lane, 7244)
      FROM unnest(workspaces, workflows, lanes) AS x(workspace, workflow, lane) ORDER BY 1 LOOP
    PERFORM pg_advisory_xact_lock(line);
  END LOOP;
END $$;

-- hold_line holds the lines of one run: its lane's, and that of its workflow's places.
CREATE FUNCTION hold_line(r live) RETURNS void LANGUAGE plpgsql AS $$
BEGIN
  IF r.lane <> '' AND r.limited THEN
    PERFORM hold_lines(ARRAY[r.workspace_id, r.workspace_id], ARRAY[r.workflow_id, r.workflow_id], ARRAY[r.lane, '']);
  ELSE
    PERFORM hold_lines(ARRAY[r.workspace_id], ARRAY[r.workflow_id], ARRAY[CASE WHEN r.limited THEN '' ELSE r.lane END]);
  END IF;
END $$;

-- free_places tells how many more runs of a workflow may be on their way.
CREATE FUNCTION free_places(workspace uuid, workflow uuid) RETURNS bigint LANGUAGE plpgsql AS $$
DECLARE most integer;
BEGIN
  SELECT v.parallel_runs INTO most FROM workflow w JOIN revision v ON v.workspace_id = w.workspace_id AND v.workflow_id = w.id AND v.number = w.live
    WHERE w.workspace_id = free_places.workspace AND w.id = free_places.workflow;
  IF coalesce(most, 0) = 0 THEN
    RETURN 1000000000;
  END IF;
  RETURN most - (SELECT count(*) FROM live l WHERE l.workspace_id = free_places.workspace AND l.workflow_id = free_places.workflow AND l.limited AND l.state <> 'waiting');
END $$;

-- fill_places queues those that wait for a place, as far as there are any.
CREATE FUNCTION fill_places(workspace uuid, workflow uuid) RETURNS void LANGUAGE plpgsql AS $$
BEGIN
  UPDATE live l SET state = 'queued', reason = '', message = '' FROM (SELECT p.run_id FROM live p
      WHERE p.workspace_id = fill_places.workspace AND p.workflow_id = fill_places.workflow AND p.state = 'waiting' AND p.reason = 'place'
      ORDER BY p.ticket LIMIT greatest(free_places(fill_places.workspace, fill_places.workflow), 0)) next
    WHERE l.workspace_id = fill_places.workspace AND l.run_id = next.run_id;
  IF FOUND THEN
    NOTIFY trellis_queue;
  END IF;
END $$;

CREATE FUNCTION line_up() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  PERFORM hold_line(NEW);
  NEW.ticket := nextval('live_ticket'); -- while the line is held: in its order
  IF NEW.lane <> '' AND EXISTS (SELECT FROM live l WHERE l.workspace_id = NEW.workspace_id AND l.workflow_id = NEW.workflow_id AND l.lane = NEW.lane AND l.lane <> '') THEN
    NEW.reason := 'lane';
  ELSIF NEW.limited AND free_places(NEW.workspace_id, NEW.workflow_id) <= 0 THEN
    NEW.reason := 'place';
  ELSE
    RETURN NEW;
  END IF;
  NEW.state := 'waiting';
  NEW.session_id := NULL;
  NEW.claim := 0;
  RETURN NEW;
END $$;

-- take_place lets a run that was to go on wait while there is no place for it.
CREATE FUNCTION take_place() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  PERFORM hold_line(NEW);
  IF free_places(NEW.workspace_id, NEW.workflow_id) <= 0 THEN
    NEW.state := 'waiting';
    NEW.reason := 'place';
    NEW.message := '';
    NEW.connection := '';
    NEW.wake := NULL;
  END IF;
  RETURN NEW;
END $$;

-- move_up lets the next ones go on when a run is over, or gives up its place.
CREATE FUNCTION move_up() RETURNS trigger LANGUAGE plpgsql AS $$
DECLARE placed boolean;
BEGIN
  PERFORM hold_line(OLD);
  IF TG_OP = 'DELETE' AND OLD.lane <> '' THEN
    UPDATE live l SET state = CASE WHEN l.limited THEN 'waiting' ELSE 'queued' END, reason = CASE WHEN l.limited THEN 'place' ELSE '' END
      FROM (SELECT n.run_id, n.state, n.reason FROM live n WHERE n.workspace_id = OLD.workspace_id AND n.workflow_id = OLD.workflow_id AND n.lane = OLD.lane AND n.lane <> ''
        ORDER BY n.ticket LIMIT 1) next
      WHERE l.workspace_id = OLD.workspace_id AND l.run_id = next.run_id AND next.state = 'waiting' AND next.reason = 'lane'
      RETURNING l.limited INTO placed;
    IF FOUND THEN
      NOTIFY trellis_queue;
    END IF;
  END IF;
  IF OLD.limited OR placed THEN
    PERFORM fill_places(OLD.workspace_id, OLD.workflow_id);
  END IF;
  RETURN NULL;
END $$;
-- +goose StatementEnd
CREATE TRIGGER line_up BEFORE INSERT ON live FOR EACH ROW WHEN (NEW.lane <> '' OR NEW.limited) EXECUTE FUNCTION line_up();
CREATE TRIGGER take_place BEFORE UPDATE OF state ON live FOR EACH ROW WHEN (NEW.limited AND OLD.state = 'waiting' AND NEW.state = 'queued') EXECUTE FUNCTION take_place();
CREATE TRIGGER move_up_ended AFTER DELETE ON live FOR EACH ROW WHEN (OLD.lane <> '' OR OLD.limited) EXECUTE FUNCTION move_up();
CREATE TRIGGER move_up_parked AFTER UPDATE OF state ON live FOR EACH ROW WHEN (OLD.limited AND OLD.state <> 'waiting' AND NEW.state = 'waiting') EXECUTE FUNCTION move_up();

-- One partition for each day of run ids (UUIDv7: 48 bits of milliseconds come
-- first), so that retention is a dropped partition and a look-up by id prunes.
-- +goose StatementBegin
CREATE FUNCTION ensure_partitions(day date) RETURNS void LANGUAGE plpgsql AS $$
DECLARE
  low  uuid := rpad(lpad(to_hex((extract(epoch FROM day::timestamp) * 1000)::bigint), 12, '0'), 32, '0')::uuid;
  high uuid := rpad(lpad(to_hex((extract(epoch FROM (day + 1)::timestamp) * 1000)::bigint), 12, '0'), 32, '0')::uuid;
  part text;
BEGIN
  FOREACH part IN ARRAY ARRAY['run', 'pass', 'journal', 'lattice'] LOOP
    IF to_regclass(format('%I', part || '_' || to_char(day, 'YYYYMMDD'))) IS NULL THEN
      EXECUTE format('CREATE TABLE %I PARTITION OF %I FOR VALUES FROM (%L) TO (%L)', part || '_' || to_char(day, 'YYYYMMDD'), part, low, high);
    END IF;
  END LOOP;
END $$;
-- +goose StatementEnd

CREATE TABLE run_other PARTITION OF run DEFAULT;
CREATE TABLE pass_other PARTITION OF pass DEFAULT;
CREATE TABLE journal_other PARTITION OF journal DEFAULT;
CREATE TABLE lattice_other PARTITION OF lattice DEFAULT;

-- The API sees one workspace at a time; what carries runs out sees all.
-- +goose StatementBegin
DO $$
DECLARE t text;
BEGIN
  FOREACH t IN ARRAY ARRAY['member', 'browser_session', 'api_token', 'data_key', 'connection', 'allowance', 'workflow', 'revision',
                           'sample', 'delivery', 'start_key', 'live', 'run', 'pass', 'journal', 'stray', 'lattice', 'rehearsal',
                           'connection_grant', 'connection_gate', 'connection_permit', 'connection_call', 'consent', 'connector_version',
                           'callback', 'waiting', 'aside', 'found', 'mending', 'mending_run', 'file', 'file_chunk', 'schedule', 'missed_time', 'follower', 'outcome', 'list', 'list_row', 'list_change', 'kept_event', 'hook_secret', 'answer'] LOOP
    EXECUTE format('ALTER TABLE %I ENABLE ROW LEVEL SECURITY', t);
    EXECUTE format('CREATE POLICY own_workspace ON %I TO trellis_api USING (workspace_id = nullif(current_setting(''trellis.workspace'', true), '''')::uuid)', t);
    EXECUTE format('CREATE POLICY all_workspaces ON %I TO trellis_node USING (true)', t);
    EXECUTE format('GRANT SELECT, INSERT, UPDATE, DELETE ON %I TO trellis_api, trellis_node', t);
  END LOOP;
END $$;
-- +goose StatementEnd
GRANT SELECT, INSERT, UPDATE, DELETE ON node_session, vault TO trellis_node;

-- People, their passwords and proofs belong to a role of their own, which asks who
-- calls and nothing else. The API sees the names of those in its workspace.
GRANT SELECT, INSERT, UPDATE, DELETE ON person, known_device, workspace, member, browser_session, api_token TO trellis_people;
GRANT SELECT (id, email, name) ON person TO trellis_api;
GRANT SELECT (id, name) ON workspace TO trellis_api, trellis_node;
ALTER TABLE person ENABLE ROW LEVEL SECURITY;
ALTER TABLE workspace ENABLE ROW LEVEL SECURITY;
ALTER TABLE known_device ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_people ON person TO trellis_api USING (EXISTS (SELECT FROM member m WHERE m.person_id = person.id));
CREATE POLICY named_workspaces ON workspace TO trellis_node USING (true);
CREATE POLICY own_workspace ON workspace TO trellis_api USING (id = nullif(current_setting('trellis.workspace', true), '')::uuid);
-- +goose StatementBegin
DO $$
DECLARE t text;
BEGIN
  FOREACH t IN ARRAY ARRAY['person', 'known_device', 'workspace', 'member', 'browser_session', 'api_token'] LOOP
    EXECUTE format('CREATE POLICY all_people ON %I TO trellis_people USING (true)', t);
  END LOOP;
END $$;
-- +goose StatementEnd
REVOKE ALL ON member, browser_session, api_token FROM trellis_node;
REVOKE ALL ON browser_session FROM trellis_api;
REVOKE INSERT, UPDATE, DELETE ON member FROM trellis_api;
GRANT USAGE ON SEQUENCE live_ticket TO trellis_api, trellis_node;
GRANT USAGE ON SCHEMA public TO trellis_api, trellis_node, trellis_people;

-- +goose Down
DROP FUNCTION ensure_partitions(date);
DROP FUNCTION hold_lines(uuid[], uuid[], text[]);
DROP FUNCTION fill_places(uuid, uuid);
DROP FUNCTION free_places(uuid, uuid);
DROP FUNCTION hold_session(uuid);
DROP FUNCTION end_blockers(integer, uuid);
DROP TABLE hook_secret, file_chunk, file, callback, waiting, rehearsal, lattice, stray, journal, pass, run, live, node_session, start_key, delivery, sample, revision, workflow,
  connector_version, consent, connection_call, connection_permit, connection_gate, connection_grant, allowance, connection, data_key, vault, api_token,
  browser_session, known_device, member, person, workspace, login CASCADE;
DROP FUNCTION IF EXISTS hold_line(live);
DROP FUNCTION line_up();
DROP FUNCTION take_place();
DROP FUNCTION move_up();
DROP SEQUENCE live_ticket;
