CREATE TABLE {prefix}members (id serial PRIMARY KEY, name varchar(80) NOT NULL);
CREATE TABLE {prefix}tools (id serial PRIMARY KEY, name varchar(80) NOT NULL);
CREATE TABLE {prefix}loans (tool integer REFERENCES {prefix}tools, member integer REFERENCES {prefix}members, since date NOT NULL);
