CREATE TABLE in_use (                         -- one row while a service uses the records
    since BIGINT NOT NULL PRIMARY KEY
);
