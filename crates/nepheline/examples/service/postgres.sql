-- Closes a site of an agency, or opens it again with NULL, and tells how many sites that are.
CREATE OR REPLACE PROCEDURE close_site(of_agency bigint, of_site bigint, on_day date, OUT changed bigint)
LANGUAGE plpgsql AS $$
BEGIN
    UPDATE site SET closed_on = on_day WHERE id = of_site AND agency_id = of_agency;
    GET DIAGNOSTICS changed = ROW_COUNT;
END
$$;
