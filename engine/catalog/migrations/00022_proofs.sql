-- +goose Up
alter table velvet.copies add column beside text not null default '';  -- id of the copy for whose proof it was made; nobody is shown it
alter table velvet.copies add column begun_at timestamptz;              -- its making, or its last move
alter table velvet.copies add column laid_out_at timestamptz;
alter table velvet.copies add column arrived_at timestamptz;            -- at its moment

alter table velvet.proofs add column backup_id text not null default '';
alter table velvet.proofs add column plan jsonb;                       -- of the copy when it was proved: plan.Restore
alter table velvet.proofs add column asked_by text not null default '';
alter table velvet.proofs add column report_hash text not null default '';  -- SHA-256 of the report as HTML

create table velvet.own_checks (              -- the DBA's own checks; a change of one is a new version
    cluster_id  text        not null references velvet.clusters on delete cascade,
    name        text        not null,
    version     integer     not null,
    sql         text        not null,
    database    text        not null,
    role        text        not null,         -- that it is run as
    expects     text        not null,         -- as core/proof.Expectation writes it
    seconds     integer     not null,         -- that it may take
    added_at    timestamptz not null default now(),
    added_by    text        not null default '',
    removed_at  timestamptz,                  -- of the newest version
    primary key (cluster_id, name, version)
);

-- +goose Down
drop table velvet.own_checks;
alter table velvet.proofs drop column report_hash;
alter table velvet.proofs drop column asked_by;
alter table velvet.proofs drop column plan;
alter table velvet.proofs drop column backup_id;
alter table velvet.copies drop column arrived_at;
alter table velvet.copies drop column laid_out_at;
alter table velvet.copies drop column begun_at;
alter table velvet.copies drop column beside;
