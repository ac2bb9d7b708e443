-- Saltmarsh Ferries: a made-up line of small ferries between tidal islands.
-- Every name, place and figure is invented; the same seed makes the same rows.
select setseed(0.42);

create table harbor (
    id   integer primary key,
    name text not null unique,
    tidal boolean not null
);
insert into harbor values
    (1, 'Saltmarsh Quay', false), (2, 'Gull Point', true), (3, 'Eelgrass', true), (4, 'Low Lantern', false),
    (5, 'Sandpiper Isle', true), (6, 'Oar''s Rest', false), (7, 'Thornbank', true), (8, 'Mudlark Landing', true);

create table vessel (
    id    integer primary key,
    name  text not null unique,
    seats integer not null
);
insert into vessel values (1, 'Curlew', 48), (2, 'Avocet', 60), (3, 'Dunlin', 32), (4, 'Redshank', 84), (5, 'Turnstone', 120), (6, 'Whimbrel', 40);

create schema crew;
create table crew.shift (
    id        bigint generated always as identity primary key,
    vessel_id integer not null references vessel,
    skipper   text not null,
    begins_at timestamptz not null,
    ends_at   timestamptz not null
);
insert into crew.shift (vessel_id, skipper, begins_at, ends_at)
select 1 + n % 6,
       (array['Ada Reedling','Bram Tollkeep','Cass Withy','Dorrit Sluys','Edda Brack','Finn Marram','Greet Oosterling','Hale Spinney'])[1 + n % 8],
       timestamptz '2026-04-01 05:00+00' + n * interval '8 hours',
       timestamptz '2026-04-01 13:00+00' + n * interval '8 hours'
from generate_series(0, 4319) n;

create index on crew.shift (vessel_id, begins_at);
comment on table crew.shift is 'who sails when';
create view crew.roster as select s.begins_at, v.name as vessel, s.skipper from crew.shift s join vessel v on v.id = s.vessel_id;

create table crossing (
    id        integer primary key,
    vessel_id integer not null references vessel,
    from_id   integer not null references harbor,
    to_id     integer not null references harbor,
    sails_at  timestamptz not null
);
insert into crossing
select n, 1 + n % 6, 1 + n % 8, 1 + (n + 1 + n / 8 % 6) % 8, timestamptz '2026-04-01 06:00+00' + n * interval '40 minutes'
from generate_series(1, 8000) n;

create table fare (
    id      integer generated always as identity primary key,
    from_id integer not null references harbor,
    to_id   integer not null references harbor,
    ticket  text not null,
    tide    text not null,
    cents   integer not null
);
insert into fare (from_id, to_id, ticket, tide, cents)
select f.id, t.id, k.ticket, w.tide, 180 + 35 * abs(f.id - t.id) + k.more + w.more
from harbor f join harbor t on f.id <> t.id,
     (values ('adult', 120), ('child', 0), ('senior', 60), ('dog', 20), ('bicycle', 80), ('car', 900)) as k (ticket, more),
     (values ('high', 0), ('low', 40), ('spring', 75), ('night', 110)) as w (tide, more);

create table booking (
    id          bigint generated always as identity primary key,
    reference   text not null unique,
    crossing_id integer not null references crossing,
    booked_at   timestamptz not null,
    season      integer not null,
    seats       integer not null,
    note        text
);
insert into booking (reference, crossing_id, booked_at, season, seats, note)
select 'SF-' || lpad(n::text, 7, '0'), 1 + floor(random() * 8000)::int,
       timestamptz '2026-02-01 08:00+00' + n * interval '90 seconds', 2026, 1 + floor(random() * 5)::int,
       case when n % 11 = 0 then 'bicycle' when n % 17 = 0 then 'dog on a lead' when n % 23 = 0 then 'needs the ramp' end
from generate_series(1, 200000) n;

create table passenger (
    id         bigint generated always as identity primary key,
    booking_id bigint not null references booking on delete cascade,
    name       text not null
);
insert into passenger (booking_id, name)
select b.id, (array['Ansa','Birk','Celia','Dov','Elke','Falk','Gerda','Hanno','Ilse','Jorn'])[1 + (b.id * 7 + s) % 10] || ' ' ||
       (array['Saltmarsh','Fenwick','Tidewell','Rushby','Osier','Loam','Heron','Sedge'])[1 + (b.id * 3 + s) % 8]
from booking b, generate_series(1, b.seats) s where b.id % 3 = 0;
create index on passenger (booking_id);

create table payment (
    id         bigint generated always as identity primary key,
    booking_id bigint references booking on delete set null,
    paid_at    timestamptz not null,
    cents      integer not null
) tablespace ledger;
insert into payment (booking_id, paid_at, cents)
select id, booked_at + interval '3 minutes', seats * (450 + (id % 9)::int * 25) from booking;
create index on payment (booking_id);
