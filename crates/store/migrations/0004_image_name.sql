-- A net under absorb, as for the other names.
create unique index image_name on fact (lower(body ->> 'name')) where until is null and kind = 'image';
create unique index image_uuid on fact ((body ->> 'uuid')) where until is null and kind = 'image';
