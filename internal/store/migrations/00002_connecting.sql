-- +goose Up

ALTER TABLE connection
  DROP CONSTRAINT connection_state_check,
  ADD CONSTRAINT connection_state_check CHECK (state IN ('unchecked', 'ok', 'broken', 'consent', 'confirm')),
  ADD COLUMN token         bytea,                        -- OAuth 2 tokens, sealed for this row and column
  ADD COLUMN token_version integer NOT NULL DEFAULT 0,   -- rises with every refresh
  ADD COLUMN token_expires timestamptz,
  ADD COLUMN token_pin     text NOT NULL DEFAULT '',     -- where the client secret may go
  ADD COLUMN redirect      text NOT NULL DEFAULT '',
  ADD COLUMN scopes        text[],                       -- granted; null if they are not known
  ADD COLUMN wanted        text[],                       -- scopes asked for
  ADD COLUMN missing       text[] NOT NULL DEFAULT '{}', -- what the plan lacks, in words
  ADD COLUMN plan_left     text NOT NULL DEFAULT '',
  ADD COLUMN limits        jsonb,                        -- instead of the connector's own
  ADD COLUMN everyone      boolean NOT NULL DEFAULT true, -- every builder may use it
  ADD COLUMN took_ms       integer;

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
ALTER TABLE revision ADD COLUMN connectors jsonb NOT NULL DEFAULT '{}'; -- name to version

-- Addresses that wake a run when they are called.
CREATE TABLE callback (
  hash         bytea PRIMARY KEY, -- SHA-256 of the address's token
  workspace_id uuid NOT NULL,
  run_id       uuid NOT NULL,
  expires      timestamptz NOT NULL
);

-- Whether one of them was called while the run was on its way: it then looks
-- again as soon as it would wait.
ALTER TABLE live ADD COLUMN called boolean NOT NULL DEFAULT false;

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

-- +goose StatementBegin
DO $$
DECLARE t text;
BEGIN
  FOREACH t IN ARRAY ARRAY['connection_grant', 'connection_gate', 'connection_permit', 'connection_call', 'consent', 'connector_version', 'callback', 'file', 'file_chunk'] LOOP
    EXECUTE format('ALTER TABLE %I ENABLE ROW LEVEL SECURITY', t);
    EXECUTE format('CREATE POLICY own_workspace ON %I TO trellis_api USING (workspace_id = nullif(current_setting(''trellis.workspace'', true), '''')::uuid)', t);
    EXECUTE format('CREATE POLICY all_workspaces ON %I TO trellis_node USING (true)', t);
    EXECUTE format('GRANT SELECT, INSERT, UPDATE, DELETE ON %I TO trellis_api, trellis_node', t);
  END LOOP;
END $$;
-- +goose StatementEnd

-- +goose Down
DROP TABLE connection_grant, connection_gate, connection_permit, connection_call, consent, connector_version, callback, file, file_chunk;
ALTER TABLE revision DROP COLUMN connectors;
ALTER TABLE live DROP COLUMN called;
ALTER TABLE connection DROP COLUMN token, DROP COLUMN token_version, DROP COLUMN token_expires, DROP COLUMN token_pin, DROP COLUMN redirect, DROP COLUMN scopes,
  DROP COLUMN wanted, DROP COLUMN missing, DROP COLUMN plan_left, DROP COLUMN limits, DROP COLUMN everyone, DROP COLUMN took_ms;
