-- Bytes are carried by a task of one process: until that falls silent no other looks after its order. Processes at a site that do
-- nothing else write here that they are there; what they can carry is left to them.
alter table orders
    add column carried_at bigint[] not null default '{}',
    add column carrier uuid,
    add column carried_until timestamptz;
create table carrier (
    process uuid primary key,
    name text not null,
    sites bigint[] not null,
    at timestamptz not null default now()
);
