-- +goose Up
-- Installations whose policies, calendar and history were brought back from the store.
create table velvet.deposits (
    installation text primary key,
    brought_at   timestamptz not null default now()
);
alter table velvet.installation add column deposited_at timestamptz; -- when what only the catalogue knows was put into the store

-- A copy has a short name, which no other copy that stands has.
alter table velvet.copies add column name text not null default '';
update velvet.copies set name = id;
create unique index copy_names on velvet.copies (name) where state <> 'discarded';
