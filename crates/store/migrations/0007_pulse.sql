-- Each process writes here now and then: that the database answers says nothing of whether it still takes writes.
create table pulse (
    process uuid primary key,
    at timestamptz not null default now()
);
