-- How full each volume was, once a day: what a forecast rests on.
create table volume_use (
    day date not null,
    volume bigint not null,
    used bigint not null,
    primary key (volume, day)
);
