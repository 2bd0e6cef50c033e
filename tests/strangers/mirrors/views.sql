CREATE VIEW protected_species AS SELECT id, name, family FROM species WHERE protected;
CREATE FUNCTION seeds_of(p_species integer) RETURNS bigint LANGUAGE sql STABLE AS 'SELECT sum(seeds) FROM accessions WHERE species_id = p_species';
