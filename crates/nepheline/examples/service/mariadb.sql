-- Closes a site of an agency, or opens it again with NULL, and tells how many sites that are.
CREATE OR REPLACE PROCEDURE close_site(of_agency BIGINT, of_site BIGINT, on_day DATE, OUT changed BIGINT)
BEGIN
    SELECT count(*) INTO changed FROM site WHERE id = of_site AND agency_id = of_agency;
    UPDATE site SET closed_on = on_day WHERE id = of_site AND agency_id = of_agency;
END;
