-- The journal: facts at every revision, events for people, orders for devices.
create table head (
    only_row boolean primary key default true check (only_row),
    revision bigint not null
);
insert into head (revision) values (0);

-- A batch whose COMMIT was not answered is looked up here.
create table batch (
    id uuid primary key,
    revision bigint not null,
    at timestamptz not null default now()
);

create table fact (
    kind text not null,
    id bigint not null,
    since bigint not null,
    until bigint,
    version integer not null,
    -- False for what a running process does not load: closed runs and their plans.
    live boolean not null,
    body jsonb not null
);
create unique index fact_current on fact (kind, id) where until is null;
create index fact_since on fact (since);
create index fact_until on fact (until) where until is not null;
-- A net under absorb: what must be unique is unique here too.
create unique index machine_name on fact ((body ->> 'name')) where until is null and kind = 'machine';
create unique index machine_uuid on fact ((body ->> 'uuid')) where until is null and kind = 'machine';
create unique index host_name on fact ((body ->> 'name')) where until is null and kind = 'host';
create unique index host_address on fact ((body -> 'access' ->> 'address')) where until is null and kind = 'host';
create unique index cluster_name on fact (lower(body ->> 'name')) where until is null and kind = 'cluster';
create unique index volume_uid on fact ((body ->> 'uid')) where until is null and kind = 'volume';
create index run_current on fact (id desc) where until is null and kind = 'run';

create table event (
    revision bigint not null,
    n integer not null,
    at timestamptz not null,
    who text not null,
    person bigint,
    run bigint,
    kind text not null,
    text text not null,
    about text[] not null,
    primary key (revision, n)
);
create index event_at on event (at desc);
create index event_about on event using gin (about);
create index event_run on event (run) where run is not null;

-- One request of a sheet makes one run.
create table request (
    id uuid primary key,
    run bigint not null
);

create table orders (
    run bigint not null,
    step integer not null,
    attempt integer not null,
    run_at timestamptz not null,
    leased_until timestamptz,
    token uuid,
    primary key (run, step)
);
create index orders_due on orders (run_at);

create table lease (
    name text primary key,
    holder uuid not null,
    term bigint not null,
    expires timestamptz not null
);
