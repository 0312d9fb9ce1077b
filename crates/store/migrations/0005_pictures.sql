-- Pictures of screens from before something ended what they showed; the newest few of each machine.
create table picture (
    id uuid primary key,
    machine bigint not null,
    -- Which one of which host: the same is never kept twice.
    mark text not null unique,
    at timestamptz not null,
    why text not null,
    png bytea not null
);
create index picture_machine on picture (machine, at desc);
