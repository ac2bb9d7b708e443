-- +goose Up
-- Which transactions are incidents is one value, as core/journal.Rule writes it.
alter table velvet.clusters add column rule jsonb not null default '{"drops": true, "rows": 10000, "share": 0.5}';
update velvet.clusters set rule = jsonb_build_object('drops', alert_drops, 'rows', alert_rows, 'share', alert_share);
alter table velvet.clusters drop column alert_drops, drop column alert_rows, drop column alert_share;

-- +goose Down
alter table velvet.clusters
    add column alert_drops boolean not null default true,
    add column alert_rows bigint not null default 10000,
    add column alert_share double precision not null default 0.5;
update velvet.clusters set alert_drops = (rule->>'drops')::boolean, alert_rows = (rule->>'rows')::bigint,
    alert_share = (rule->>'share')::double precision;
alter table velvet.clusters drop column rule;
