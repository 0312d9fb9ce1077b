-- A password that an admin had drawn for somebody: good once, until then, and replaced by their own at the sign-in.
alter table person add column one_time_until timestamptz;
