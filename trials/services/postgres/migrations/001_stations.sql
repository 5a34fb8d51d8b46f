create table stations (
    code text primary key,
    name text not null
);
