-- +goose Up
-- How authors of transactions are watched, as core/journal.AuthorRule has it; what keeps them from being seen, and how long a
-- look takes the server.
alter table velvet.clusters add column authors jsonb not null default '{"days": 90, "statement": 0}';
alter table velvet.captures
    add column authors_problem text not null default '',
    add column authors_look_us bigint not null default 0;
alter table velvet.incidents add column author text not null default '';

-- +goose Down
alter table velvet.incidents drop column author;
alter table velvet.captures drop column authors_problem, drop column authors_look_us;
alter table velvet.clusters drop column authors;
