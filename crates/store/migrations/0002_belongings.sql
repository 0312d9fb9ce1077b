-- Belongings: plain tables, no proposal.
create sequence person_id;
create table person (
    id bigint primary key default nextval('person_id'),
    name text not null,
    role text not null,
    password text not null,
    theme text not null default 'day',
    zone text not null default 'UTC',
    active boolean not null default true,
    created timestamptz not null default now()
);
create unique index person_name on person (lower(name));

create table session (
    token bytea primary key,
    person bigint not null references person (id) on delete cascade,
    csrf text not null,
    created timestamptz not null default now(),
    used timestamptz not null default now()
);

create table secret (
    id uuid primary key,
    key_id text not null,
    nonce bytea not null,
    sealed bytea not null,
    created timestamptz not null default now()
);

create table setting (
    name text primary key,
    value jsonb not null
);

create table load (
    at timestamptz not null,
    host bigint not null,
    body jsonb not null
) partition by range (at);
create table load_rest partition of load default;
create index load_host on load (host, at desc);
