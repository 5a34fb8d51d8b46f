create table tides (
    station text not null references stations,
    at timestamp not null,
    height_cm integer not null
);
