-- +goose Up
create table velvet.takeovers (              -- copies put in the place of their originals
    id         text primary key,
    cluster_id text        not null references velvet.clusters on delete cascade,
    copy_id    text        not null,
    task_id    text        not null,
    moment     text        not null,
    step       text        not null,         -- catalog.Takeover: begun before anything of it is done
    original   jsonb       not null,         -- host.Original, as it was
    aside      text        not null,         -- what is appended to the names of what was set aside
    captured   boolean     not null,         -- capture was wanted
    removed_at timestamptz,                  -- what was set aside is gone
    begun_at   timestamptz not null default now(),
    ended_at   timestamptz,
    problem    text        not null default ''
);
create table velvet.originals (              -- how each cluster's server is run, where it is on the service's own host
    cluster_id text primary key references velvet.clusters on delete cascade,
    original   jsonb       not null,         -- host.Original, as last seen
    seen_at    timestamptz not null default now()
);
create unique index one_takeover_at_a_time on velvet.takeovers (cluster_id) where ended_at is null;

-- +goose Down
drop table velvet.originals;
drop table velvet.takeovers;
