-- Which history this is (see `epoch` in core), and why orders are held, if they are.
alter table head
    add column epoch bigint not null default 1,
    add column history uuid not null default gen_random_uuid(),
    add column parent uuid,
    add column held text;

-- Several volumes may be without an identity while they are being made.
drop index volume_uid;
create unique index volume_uid on fact ((body ->> 'uid')) where until is null and kind = 'volume' and body ->> 'uid' <> '';

-- A run's plan and steps are found by their numbers when it closes or is looked at.
create index fact_old on fact (kind, id) where until is null and not live;

-- Whether the device may have been told, and how far it says it is: progress is a measurement and stays out of the journal.
alter table orders
    add column sent boolean not null default false,
    add column said text not null default '',
    -- A device takes few calls at a time; the more urgent first (0 availability, 1 maintenance, 2 others).
    add column device text not null default '',
    add column urgency smallint not null default 2;
drop index orders_due;
create index orders_due on orders (device, urgency, run_at);
