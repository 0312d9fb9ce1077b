-- Who stands by at another site, with the key that seals secrets wrapped for it: the row reaches it by replication.
create table stand_by (
    id uuid primary key,
    name text not null unique,
    slot text not null,
    nonce bytea not null,
    wrapped bytea not null,
    added timestamptz not null default now()
);

-- Where a history began: the revision that its past had reached here, and the database's timeline, which is another one
-- after every promotion. And why nothing is begun by itself, if nothing is.
alter table head
    add column began bigint not null default 0,
    add column timeline bigint,
    add column automation text;
