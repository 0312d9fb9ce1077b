-- Until somebody chooses, pages follow the system. Nobody could say so before: whoever has the day has not chosen the night.
alter table person alter column theme set default 'system';
update person set theme = 'system' where theme = 'day';
