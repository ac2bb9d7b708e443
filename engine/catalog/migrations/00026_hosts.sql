-- +goose Up
create table velvet.hosts (                  -- machines with a host agent
    id         text primary key,
    name       text        not null,
    about      jsonb       not null default '{}', -- wire.About, as the agent last said
    address    text        not null default '',   -- that it last came from
    joined_at  timestamptz not null default now(),
    seen_at    timestamptz,                  -- when it was last in reach of an instance
    removed_at timestamptz
);
create unique index host_names on velvet.hosts (name) where removed_at is null;
create table velvet.host_words (             -- with each of which one host may join, once
    hash       bytea primary key,            -- SHA-256 of the word
    name       text        not null,
    expires_at timestamptz not null
);
create table velvet.authority (              -- signs the certificates of hosts and of what serves them
    single      boolean primary key default true check (single),
    certificate bytea not null,              -- DER
    key         bytea not null               -- sealed
);
alter table velvet.copies add host_id text not null default '';

-- +goose Down
alter table velvet.copies drop host_id;
drop table velvet.authority;
drop table velvet.host_words;
drop table velvet.hosts;
