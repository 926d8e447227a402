-- The catalogue of a database without tables, as clients of PostgreSQL ask for it: the tables of pg_catalog and information_schema by their documentation,
-- the types of values that are sent, and the functions that are asked along. What a person may see is added for each connection (catalog.py).
CREATE SCHEMA pg;
CREATE SCHEMA info;
CREATE TABLE info.applicable_roles (grantee VARCHAR, role_name VARCHAR, is_grantable VARCHAR);
CREATE TABLE info.character_sets (character_set_catalog VARCHAR, character_set_schema VARCHAR, character_set_name VARCHAR, character_repertoire VARCHAR, form_of_use VARCHAR, default_collate_catalog VARCHAR, default_collate_schema VARCHAR, default_collate_name VARCHAR);
CREATE TABLE info.check_constraints (constraint_catalog VARCHAR, constraint_schema VARCHAR, constraint_name VARCHAR, check_clause VARCHAR);
CREATE TABLE info.collations (collation_catalog VARCHAR, collation_schema VARCHAR, collation_name VARCHAR, pad_attribute VARCHAR);
CREATE TABLE info.column_privileges (grantor VARCHAR, grantee VARCHAR, table_catalog VARCHAR, table_schema VARCHAR, table_name VARCHAR, column_name VARCHAR, privilege_type VARCHAR, is_grantable VARCHAR);
CREATE TABLE info.columns (table_catalog VARCHAR, table_schema VARCHAR, table_name VARCHAR, column_name VARCHAR, ordinal_position INTEGER, column_default VARCHAR, is_nullable VARCHAR, data_type VARCHAR, character_maximum_length INTEGER, character_octet_length INTEGER, numeric_precision INTEGER, numeric_precision_radix INTEGER, numeric_scale INTEGER, datetime_precision INTEGER, interval_type VARCHAR, interval_precision INTEGER, character_set_catalog VARCHAR, character_set_schema VARCHAR, character_set_name VARCHAR, collation_catalog VARCHAR, collation_schema VARCHAR, collation_name VARCHAR, domain_catalog VARCHAR, domain_schema VARCHAR, domain_name VARCHAR, udt_catalog VARCHAR, udt_schema VARCHAR, udt_name VARCHAR, scope_catalog VARCHAR, scope_schema VARCHAR, scope_name VARCHAR, maximum_cardinality INTEGER, dtd_identifier VARCHAR, is_self_referencing VARCHAR, is_identity VARCHAR, identity_generation VARCHAR, identity_start VARCHAR, identity_increment VARCHAR, identity_maximum VARCHAR, identity_minimum VARCHAR, identity_cycle VARCHAR, is_generated VARCHAR, generation_expression VARCHAR, is_updatable VARCHAR);
CREATE TABLE info.constraint_column_usage (table_catalog VARCHAR, table_schema VARCHAR, table_name VARCHAR, column_name VARCHAR, constraint_catalog VARCHAR, constraint_schema VARCHAR, constraint_name VARCHAR);
CREATE TABLE info.constraint_table_usage (table_catalog VARCHAR, table_schema VARCHAR, table_name VARCHAR, constraint_catalog VARCHAR, constraint_schema VARCHAR, constraint_name VARCHAR);
CREATE TABLE info.domains (domain_catalog VARCHAR, domain_schema VARCHAR, domain_name VARCHAR, data_type VARCHAR, character_maximum_length INTEGER, character_octet_length INTEGER, character_set_catalog VARCHAR, character_set_schema VARCHAR, character_set_name VARCHAR, collation_catalog VARCHAR, collation_schema VARCHAR, collation_name VARCHAR, numeric_precision INTEGER, numeric_precision_radix INTEGER, numeric_scale INTEGER, datetime_precision INTEGER, interval_type VARCHAR, interval_precision INTEGER, domain_default VARCHAR, udt_catalog VARCHAR, udt_schema VARCHAR, udt_name VARCHAR, scope_catalog VARCHAR, scope_schema VARCHAR, scope_name VARCHAR, maximum_cardinality INTEGER, dtd_identifier VARCHAR);
CREATE TABLE info.element_types (object_catalog VARCHAR, object_schema VARCHAR, object_name VARCHAR, object_type VARCHAR, collection_type_identifier VARCHAR, data_type VARCHAR, character_maximum_length INTEGER, character_octet_length INTEGER, character_set_catalog VARCHAR, character_set_schema VARCHAR, character_set_name VARCHAR, collation_catalog VARCHAR, collation_schema VARCHAR, collation_name VARCHAR, numeric_precision INTEGER, numeric_precision_radix INTEGER, numeric_scale INTEGER, datetime_precision INTEGER, interval_type VARCHAR, interval_precision INTEGER, domain_default VARCHAR, udt_catalog VARCHAR, udt_schema VARCHAR, udt_name VARCHAR, scope_catalog VARCHAR, scope_schema VARCHAR, scope_name VARCHAR, maximum_cardinality INTEGER, dtd_identifier VARCHAR);
CREATE TABLE info.enabled_roles (role_name VARCHAR);
CREATE TABLE info.information_schema_catalog_name (catalog_name VARCHAR);
CREATE TABLE info.key_column_usage (constraint_catalog VARCHAR, constraint_schema VARCHAR, constraint_name VARCHAR, table_catalog VARCHAR, table_schema VARCHAR, table_name VARCHAR, column_name VARCHAR, ordinal_position INTEGER, position_in_unique_constraint INTEGER);
CREATE TABLE info.parameters (specific_catalog VARCHAR, specific_schema VARCHAR, specific_name VARCHAR, ordinal_position INTEGER, parameter_mode VARCHAR, is_result VARCHAR, as_locator VARCHAR, parameter_name VARCHAR, data_type VARCHAR, character_maximum_length INTEGER, character_octet_length INTEGER, character_set_catalog VARCHAR, character_set_schema VARCHAR, character_set_name VARCHAR, collation_catalog VARCHAR, collation_schema VARCHAR, collation_name VARCHAR, numeric_precision INTEGER, numeric_precision_radix INTEGER, numeric_scale INTEGER, datetime_precision INTEGER, interval_type VARCHAR, interval_precision INTEGER, udt_catalog VARCHAR, udt_schema VARCHAR, udt_name VARCHAR, scope_catalog VARCHAR, scope_schema VARCHAR, scope_name VARCHAR, maximum_cardinality INTEGER, dtd_identifier VARCHAR, parameter_default VARCHAR);
CREATE TABLE info.referential_constraints (constraint_catalog VARCHAR, constraint_schema VARCHAR, constraint_name VARCHAR, unique_constraint_catalog VARCHAR, unique_constraint_schema VARCHAR, unique_constraint_name VARCHAR, match_option VARCHAR, update_rule VARCHAR, delete_rule VARCHAR);
CREATE TABLE info.role_table_grants (grantor VARCHAR, grantee VARCHAR, table_catalog VARCHAR, table_schema VARCHAR, table_name VARCHAR, privilege_type VARCHAR, is_grantable VARCHAR, with_hierarchy VARCHAR);
CREATE TABLE info.routines (specific_catalog VARCHAR, specific_schema VARCHAR, specific_name VARCHAR, routine_catalog VARCHAR, routine_schema VARCHAR, routine_name VARCHAR, routine_type VARCHAR, module_catalog VARCHAR, module_schema VARCHAR, module_name VARCHAR, udt_catalog VARCHAR, udt_schema VARCHAR, udt_name VARCHAR, data_type VARCHAR, character_maximum_length INTEGER, character_octet_length INTEGER, character_set_catalog VARCHAR, character_set_schema VARCHAR, character_set_name VARCHAR, collation_catalog VARCHAR, collation_schema VARCHAR, collation_name VARCHAR, numeric_precision INTEGER, numeric_precision_radix INTEGER, numeric_scale INTEGER, datetime_precision INTEGER, interval_type VARCHAR, interval_precision INTEGER, type_udt_catalog VARCHAR, type_udt_schema VARCHAR, type_udt_name VARCHAR, scope_catalog VARCHAR, scope_schema VARCHAR, scope_name VARCHAR, maximum_cardinality INTEGER, dtd_identifier VARCHAR, routine_body VARCHAR, routine_definition VARCHAR, external_name VARCHAR, external_language VARCHAR, parameter_style VARCHAR, is_deterministic VARCHAR, sql_data_access VARCHAR, is_null_call VARCHAR, sql_path VARCHAR, schema_level_routine VARCHAR, max_dynamic_result_sets INTEGER, is_user_defined_cast VARCHAR, is_implicitly_invocable VARCHAR, security_type VARCHAR, to_sql_specific_catalog VARCHAR, to_sql_specific_schema VARCHAR, to_sql_specific_name VARCHAR, as_locator VARCHAR, created TIMESTAMP, last_altered TIMESTAMP, new_savepoint_level VARCHAR, is_udt_dependent VARCHAR, result_cast_from_data_type VARCHAR, result_cast_as_locator VARCHAR, result_cast_char_max_length INTEGER, result_cast_char_octet_length INTEGER, result_cast_char_set_catalog VARCHAR, result_cast_char_set_schema VARCHAR, result_cast_char_set_name VARCHAR, result_cast_collation_catalog VARCHAR, result_cast_collation_schema VARCHAR, result_cast_collation_name VARCHAR, result_cast_numeric_precision INTEGER, result_cast_numeric_precision_radix INTEGER, result_cast_numeric_scale INTEGER, result_cast_datetime_precision INTEGER, result_cast_interval_type VARCHAR, result_cast_interval_precision INTEGER, result_cast_type_udt_catalog VARCHAR, result_cast_type_udt_schema VARCHAR, result_cast_type_udt_name VARCHAR, result_cast_scope_catalog VARCHAR, result_cast_scope_schema VARCHAR, result_cast_scope_name VARCHAR, result_cast_maximum_cardinality INTEGER, result_cast_dtd_identifier VARCHAR);
CREATE TABLE info.schemata (catalog_name VARCHAR, schema_name VARCHAR, schema_owner VARCHAR, default_character_set_catalog VARCHAR, default_character_set_schema VARCHAR, default_character_set_name VARCHAR, sql_path VARCHAR);
CREATE TABLE info.sequences (sequence_catalog VARCHAR, sequence_schema VARCHAR, sequence_name VARCHAR, data_type VARCHAR, numeric_precision INTEGER, numeric_precision_radix INTEGER, numeric_scale INTEGER, start_value VARCHAR, minimum_value VARCHAR, maximum_value VARCHAR, increment VARCHAR, cycle_option VARCHAR);
CREATE TABLE info.sql_features (feature_id VARCHAR, feature_name VARCHAR, sub_feature_id VARCHAR, sub_feature_name VARCHAR, is_supported VARCHAR, is_verified_by VARCHAR, comments VARCHAR);
CREATE TABLE info.table_constraints (constraint_catalog VARCHAR, constraint_schema VARCHAR, constraint_name VARCHAR, table_catalog VARCHAR, table_schema VARCHAR, table_name VARCHAR, constraint_type VARCHAR, is_deferrable VARCHAR, initially_deferred VARCHAR, enforced VARCHAR, nulls_distinct VARCHAR);
CREATE TABLE info.table_privileges (grantor VARCHAR, grantee VARCHAR, table_catalog VARCHAR, table_schema VARCHAR, table_name VARCHAR, privilege_type VARCHAR, is_grantable VARCHAR, with_hierarchy VARCHAR);
CREATE TABLE info.tables (table_catalog VARCHAR, table_schema VARCHAR, table_name VARCHAR, table_type VARCHAR, self_referencing_column_name VARCHAR, reference_generation VARCHAR, user_defined_type_catalog VARCHAR, user_defined_type_schema VARCHAR, user_defined_type_name VARCHAR, is_insertable_into VARCHAR, is_typed VARCHAR, commit_action VARCHAR);
CREATE TABLE info.triggers (trigger_catalog VARCHAR, trigger_schema VARCHAR, trigger_name VARCHAR, event_manipulation VARCHAR, event_object_catalog VARCHAR, event_object_schema VARCHAR, event_object_table VARCHAR, action_order INTEGER, action_condition VARCHAR, action_statement VARCHAR, action_orientation VARCHAR, action_timing VARCHAR, action_reference_old_table VARCHAR, action_reference_new_table VARCHAR, action_reference_old_row VARCHAR, action_reference_new_row VARCHAR, created TIMESTAMP);
CREATE TABLE info.udt_privileges (grantor VARCHAR, grantee VARCHAR, udt_catalog VARCHAR, udt_schema VARCHAR, udt_name VARCHAR, privilege_type VARCHAR, is_grantable VARCHAR);
CREATE TABLE info.user_defined_types (user_defined_type_catalog VARCHAR, user_defined_type_schema VARCHAR, user_defined_type_name VARCHAR, user_defined_type_category VARCHAR, is_instantiable VARCHAR, is_final VARCHAR, ordering_form VARCHAR, ordering_category VARCHAR, ordering_routine_catalog VARCHAR, ordering_routine_schema VARCHAR, ordering_routine_name VARCHAR, reference_type VARCHAR, data_type VARCHAR, character_maximum_length INTEGER, character_octet_length INTEGER, character_set_catalog VARCHAR, character_set_schema VARCHAR, character_set_name VARCHAR, collation_catalog VARCHAR, collation_schema VARCHAR, collation_name VARCHAR, numeric_precision INTEGER, numeric_precision_radix INTEGER, numeric_scale INTEGER, datetime_precision INTEGER, interval_type VARCHAR, interval_precision INTEGER, source_dtd_identifier VARCHAR, ref_dtd_identifier VARCHAR);
CREATE TABLE info.views (table_catalog VARCHAR, table_schema VARCHAR, table_name VARCHAR, view_definition VARCHAR, check_option VARCHAR, is_updatable VARCHAR, is_insertable_into VARCHAR, is_trigger_updatable VARCHAR, is_trigger_deletable VARCHAR, is_trigger_insertable_into VARCHAR);
CREATE TABLE pg.pg_am (oid BIGINT, amname VARCHAR, amhandler VARCHAR, amtype VARCHAR);
CREATE TABLE pg.pg_attrdef (oid BIGINT, adrelid BIGINT, adnum INTEGER, adbin VARCHAR);
CREATE TABLE pg.pg_attribute (attrelid BIGINT, attname VARCHAR, atttypid BIGINT, attlen INTEGER, attnum INTEGER, attcacheoff INTEGER, atttypmod INTEGER, attndims INTEGER, attbyval BOOLEAN, attalign VARCHAR, attstorage VARCHAR, attcompression VARCHAR, attnotnull BOOLEAN, atthasdef BOOLEAN, atthasmissing BOOLEAN, attidentity VARCHAR, attgenerated VARCHAR, attisdropped BOOLEAN, attislocal BOOLEAN, attinhcount INTEGER, attstattarget INTEGER, attcollation BIGINT, attacl VARCHAR[], attoptions VARCHAR[], attfdwoptions VARCHAR[], attmissingval VARCHAR);
CREATE TABLE pg.pg_auth_members (oid BIGINT, roleid BIGINT, member BIGINT, grantor BIGINT, admin_option BOOLEAN, inherit_option BOOLEAN, set_option BOOLEAN);
CREATE TABLE pg.pg_available_extensions (name VARCHAR, default_version VARCHAR, installed_version VARCHAR, comment VARCHAR);
CREATE TABLE pg.pg_cast (oid BIGINT, castsource BIGINT, casttarget BIGINT, castfunc BIGINT, castcontext VARCHAR, castmethod VARCHAR);
CREATE TABLE pg.pg_class (oid BIGINT, relname VARCHAR, relnamespace BIGINT, reltype BIGINT, reloftype BIGINT, relowner BIGINT, relam BIGINT, relfilenode BIGINT, reltablespace BIGINT, relpages INTEGER, reltuples DOUBLE, relallvisible INTEGER, reltoastrelid BIGINT, relhasindex BOOLEAN, relisshared BOOLEAN, relpersistence VARCHAR, relkind VARCHAR, relnatts INTEGER, relchecks INTEGER, relhasrules BOOLEAN, relhastriggers BOOLEAN, relhassubclass BOOLEAN, relrowsecurity BOOLEAN, relforcerowsecurity BOOLEAN, relispopulated BOOLEAN, relreplident VARCHAR, relispartition BOOLEAN, relrewrite BIGINT, relfrozenxid BIGINT, relminmxid BIGINT, relacl VARCHAR[], reloptions VARCHAR[], relpartbound VARCHAR);
CREATE TABLE pg.pg_collation (oid BIGINT, collname VARCHAR, collnamespace BIGINT, collowner BIGINT, collprovider VARCHAR, collisdeterministic BOOLEAN, collencoding INTEGER, collcollate VARCHAR, collctype VARCHAR, colliculocale VARCHAR, collicurules VARCHAR, collversion VARCHAR);
CREATE TABLE pg.pg_constraint (oid BIGINT, conname VARCHAR, connamespace BIGINT, contype VARCHAR, condeferrable BOOLEAN, condeferred BOOLEAN, convalidated BOOLEAN, conrelid BIGINT, contypid BIGINT, conindid BIGINT, conparentid BIGINT, confrelid BIGINT, confupdtype VARCHAR, confdeltype VARCHAR, confmatchtype VARCHAR, conislocal BOOLEAN, coninhcount INTEGER, connoinherit BOOLEAN, conkey BIGINT[], confkey BIGINT[], conpfeqop BIGINT[], conppeqop BIGINT[], conffeqop BIGINT[], confdelsetcols BIGINT[], conexclop BIGINT[], conbin VARCHAR);
CREATE TABLE pg.pg_database (oid BIGINT, datname VARCHAR, datdba BIGINT, encoding INTEGER, datlocprovider VARCHAR, datistemplate BOOLEAN, datallowconn BOOLEAN, datconnlimit INTEGER, datfrozenxid BIGINT, datminmxid BIGINT, dattablespace BIGINT, datcollate VARCHAR, datctype VARCHAR, daticulocale VARCHAR, daticurules VARCHAR, datcollversion VARCHAR, datacl VARCHAR[]);
CREATE TABLE pg.pg_default_acl (oid BIGINT, defaclrole BIGINT, defaclnamespace BIGINT, defaclobjtype VARCHAR, defaclacl VARCHAR[]);
CREATE TABLE pg.pg_depend (classid BIGINT, objid BIGINT, objsubid INTEGER, refclassid BIGINT, refobjid BIGINT, refobjsubid INTEGER, deptype VARCHAR);
CREATE TABLE pg.pg_description (objoid BIGINT, classoid BIGINT, objsubid INTEGER, description VARCHAR);
CREATE TABLE pg.pg_enum (oid BIGINT, enumtypid BIGINT, enumsortorder DOUBLE, enumlabel VARCHAR);
CREATE TABLE pg.pg_extension (oid BIGINT, extname VARCHAR, extowner BIGINT, extnamespace BIGINT, extrelocatable BOOLEAN, extversion VARCHAR, extconfig BIGINT[], extcondition VARCHAR[]);
CREATE TABLE pg.pg_foreign_data_wrapper (oid BIGINT, fdwname VARCHAR, fdwowner BIGINT, fdwhandler BIGINT, fdwvalidator BIGINT, fdwacl VARCHAR[], fdwoptions VARCHAR[]);
CREATE TABLE pg.pg_foreign_server (oid BIGINT, srvname VARCHAR, srvowner BIGINT, srvfdw BIGINT, srvtype VARCHAR, srvversion VARCHAR, srvacl VARCHAR[], srvoptions VARCHAR[]);
CREATE TABLE pg.pg_foreign_table (ftrelid BIGINT, ftserver BIGINT, ftoptions VARCHAR[]);
CREATE TABLE pg.pg_index (indexrelid BIGINT, indrelid BIGINT, indnatts INTEGER, indnkeyatts INTEGER, indisunique BOOLEAN, indnullsnotdistinct BOOLEAN, indisprimary BOOLEAN, indisexclusion BOOLEAN, indimmediate BOOLEAN, indisclustered BOOLEAN, indisvalid BOOLEAN, indcheckxmin BOOLEAN, indisready BOOLEAN, indislive BOOLEAN, indisreplident BOOLEAN, indkey BIGINT[], indcollation BIGINT[], indclass BIGINT[], indoption BIGINT[], indexprs VARCHAR, indpred VARCHAR);
CREATE TABLE pg.pg_indexes (schemaname VARCHAR, tablename VARCHAR, indexname VARCHAR, tablespace VARCHAR, indexdef VARCHAR);
CREATE TABLE pg.pg_inherits (inhrelid BIGINT, inhparent BIGINT, inhseqno INTEGER, inhdetachpending BOOLEAN);
CREATE TABLE pg.pg_language (oid BIGINT, lanname VARCHAR, lanowner BIGINT, lanispl BOOLEAN, lanpltrusted BOOLEAN, lanplcallfoid BIGINT, laninline BIGINT, lanvalidator BIGINT, lanacl VARCHAR[]);
CREATE TABLE pg.pg_locks (locktype VARCHAR, database BIGINT, relation BIGINT, page INTEGER, tuple INTEGER, virtualxid VARCHAR, transactionid BIGINT, classid BIGINT, objid BIGINT, objsubid INTEGER, virtualtransaction VARCHAR, pid INTEGER, mode VARCHAR, granted BOOLEAN, fastpath BOOLEAN, waitstart TIMESTAMP);
CREATE TABLE pg.pg_matviews (schemaname VARCHAR, matviewname VARCHAR, matviewowner VARCHAR, tablespace VARCHAR, hasindexes BOOLEAN, ispopulated BOOLEAN, definition VARCHAR);
CREATE TABLE pg.pg_namespace (oid BIGINT, nspname VARCHAR, nspowner BIGINT, nspacl VARCHAR[]);
CREATE TABLE pg.pg_opclass (oid BIGINT, opcmethod BIGINT, opcname VARCHAR, opcnamespace BIGINT, opcowner BIGINT, opcfamily BIGINT, opcintype BIGINT, opcdefault BOOLEAN, opckeytype BIGINT);
CREATE TABLE pg.pg_operator (oid BIGINT, oprname VARCHAR, oprnamespace BIGINT, oprowner BIGINT, oprkind VARCHAR, oprcanmerge BOOLEAN, oprcanhash BOOLEAN, oprleft BIGINT, oprright BIGINT, oprresult BIGINT, oprcom BIGINT, oprnegate BIGINT, oprcode VARCHAR, oprrest VARCHAR, oprjoin VARCHAR);
CREATE TABLE pg.pg_partitioned_table (partrelid BIGINT, partstrat VARCHAR, partnatts INTEGER, partdefid BIGINT, partattrs BIGINT[], partclass BIGINT[], partcollation BIGINT[], partexprs VARCHAR);
CREATE TABLE pg.pg_policies (schemaname VARCHAR, tablename VARCHAR, policyname VARCHAR, permissive VARCHAR, roles VARCHAR[], cmd VARCHAR, qual VARCHAR, with_check VARCHAR);
CREATE TABLE pg.pg_policy (oid BIGINT, polname VARCHAR, polrelid BIGINT, polcmd VARCHAR, polpermissive BOOLEAN, polroles BIGINT[], polqual VARCHAR, polwithcheck VARCHAR);
CREATE TABLE pg.pg_proc (oid BIGINT, proname VARCHAR, pronamespace BIGINT, proowner BIGINT, prolang BIGINT, procost DOUBLE, prorows DOUBLE, provariadic BIGINT, prosupport VARCHAR, prokind VARCHAR, prosecdef BOOLEAN, proleakproof BOOLEAN, proisstrict BOOLEAN, proretset BOOLEAN, provolatile VARCHAR, proparallel VARCHAR, pronargs INTEGER, pronargdefaults INTEGER, prorettype BIGINT, proargtypes BIGINT[], proallargtypes BIGINT[], proargmodes VARCHAR[], proargnames VARCHAR[], proargdefaults VARCHAR, protrftypes BIGINT[], prosrc VARCHAR, probin VARCHAR, prosqlbody VARCHAR, proconfig VARCHAR[], proacl VARCHAR[]);
CREATE TABLE pg.pg_publication (oid BIGINT, pubname VARCHAR, pubowner BIGINT, puballtables BOOLEAN, pubinsert BOOLEAN, pubupdate BOOLEAN, pubdelete BOOLEAN, pubtruncate BOOLEAN, pubviaroot BOOLEAN);
CREATE TABLE pg.pg_publication_namespace (oid BIGINT, pnpubid BIGINT, pnnspid BIGINT);
CREATE TABLE pg.pg_publication_rel (oid BIGINT, prpubid BIGINT, prrelid BIGINT, prqual VARCHAR, prattrs BIGINT[]);
CREATE TABLE pg.pg_publication_tables (pubname VARCHAR, schemaname VARCHAR, tablename VARCHAR, attnames VARCHAR[], rowfilter VARCHAR);
CREATE TABLE pg.pg_range (rngtypid BIGINT, rngsubtype BIGINT, rngmultitypid BIGINT, rngcollation BIGINT, rngsubopc BIGINT, rngcanonical VARCHAR, rngsubdiff VARCHAR);
CREATE TABLE pg.pg_rewrite (oid BIGINT, rulename VARCHAR, ev_class BIGINT, ev_type VARCHAR, ev_enabled VARCHAR, is_instead BOOLEAN, ev_qual VARCHAR, ev_action VARCHAR);
CREATE TABLE pg.pg_roles (rolname VARCHAR, rolsuper BOOLEAN, rolinherit BOOLEAN, rolcreaterole BOOLEAN, rolcreatedb BOOLEAN, rolcanlogin BOOLEAN, rolreplication BOOLEAN, rolconnlimit INTEGER, rolpassword VARCHAR, rolvaliduntil TIMESTAMP, rolbypassrls BOOLEAN, rolconfig VARCHAR[], oid BIGINT);
CREATE TABLE pg.pg_rules (schemaname VARCHAR, tablename VARCHAR, rulename VARCHAR, definition VARCHAR);
CREATE TABLE pg.pg_sequence (seqrelid BIGINT, seqtypid BIGINT, seqstart BIGINT, seqincrement BIGINT, seqmax BIGINT, seqmin BIGINT, seqcache BIGINT, seqcycle BOOLEAN);
CREATE TABLE pg.pg_sequences (schemaname VARCHAR, sequencename VARCHAR, sequenceowner VARCHAR, data_type VARCHAR, start_value BIGINT, min_value BIGINT, max_value BIGINT, increment_by BIGINT, cycle BOOLEAN, cache_size BIGINT, last_value BIGINT);
CREATE TABLE pg.pg_settings (name VARCHAR, setting VARCHAR, unit VARCHAR, category VARCHAR, short_desc VARCHAR, extra_desc VARCHAR, context VARCHAR, vartype VARCHAR, source VARCHAR, min_val VARCHAR, max_val VARCHAR, enumvals VARCHAR[], boot_val VARCHAR, reset_val VARCHAR, sourcefile VARCHAR, sourceline INTEGER, pending_restart BOOLEAN);
CREATE TABLE pg.pg_shdescription (objoid BIGINT, classoid BIGINT, description VARCHAR);
CREATE TABLE pg.pg_statistic_ext (oid BIGINT, stxrelid BIGINT, stxname VARCHAR, stxnamespace BIGINT, stxowner BIGINT, stxstattarget INTEGER, stxkeys BIGINT[], stxkind VARCHAR[], stxexprs VARCHAR);
CREATE TABLE pg.pg_tables (schemaname VARCHAR, tablename VARCHAR, tableowner VARCHAR, tablespace VARCHAR, hasindexes BOOLEAN, hasrules BOOLEAN, hastriggers BOOLEAN, rowsecurity BOOLEAN);
CREATE TABLE pg.pg_tablespace (oid BIGINT, spcname VARCHAR, spcowner BIGINT, spcacl VARCHAR[], spcoptions VARCHAR[]);
CREATE TABLE pg.pg_timezone_names (name VARCHAR, abbrev VARCHAR, utc_offset VARCHAR, is_dst BOOLEAN);
CREATE TABLE pg.pg_trigger (oid BIGINT, tgrelid BIGINT, tgparentid BIGINT, tgname VARCHAR, tgfoid BIGINT, tgtype INTEGER, tgenabled VARCHAR, tgisinternal BOOLEAN, tgconstrrelid BIGINT, tgconstrindid BIGINT, tgconstraint BIGINT, tgdeferrable BOOLEAN, tginitdeferred BOOLEAN, tgnargs INTEGER, tgattr BIGINT[], tgargs VARCHAR, tgqual VARCHAR, tgoldtable VARCHAR, tgnewtable VARCHAR);
CREATE TABLE pg.pg_type (oid BIGINT, typname VARCHAR, typnamespace BIGINT, typowner BIGINT, typlen INTEGER, typbyval BOOLEAN, typtype VARCHAR, typcategory VARCHAR, typispreferred BOOLEAN, typisdefined BOOLEAN, typdelim VARCHAR, typrelid BIGINT, typsubscript VARCHAR, typelem BIGINT, typarray BIGINT, typinput VARCHAR, typoutput VARCHAR, typreceive VARCHAR, typsend VARCHAR, typmodin VARCHAR, typmodout VARCHAR, typanalyze VARCHAR, typalign VARCHAR, typstorage VARCHAR, typnotnull BOOLEAN, typbasetype BIGINT, typtypmod INTEGER, typndims INTEGER, typcollation BIGINT, typdefaultbin VARCHAR, typdefault VARCHAR, typacl VARCHAR[]);
CREATE TABLE pg.pg_user (usename VARCHAR, usesysid BIGINT, usecreatedb BOOLEAN, usesuper BOOLEAN, userepl BOOLEAN, usebypassrls BOOLEAN, passwd VARCHAR, valuntil TIMESTAMP, useconfig VARCHAR[]);
CREATE TABLE pg.pg_views (schemaname VARCHAR, viewname VARCHAR, viewowner VARCHAR, definition VARCHAR);
INSERT INTO pg.pg_type (oid, typname, typnamespace, typowner, typlen, typbyval, typtype, typcategory, typispreferred, typisdefined, typdelim, typrelid, typelem, typarray, typinput, typoutput, typreceive, typsend, typbasetype, typtypmod, typndims, typcollation) VALUES
  (16, 'bool', 11, 10, 1, true, 'b', 'B', true, true, ',', 0, 0, 1000, 'boolin', 'boolout', 'boolrecv', 'boolsend', 0, -1, 0, 0),
  (17, 'bytea', 11, 10, -1, false, 'b', 'U', false, true, ',', 0, 0, 1001, 'byteain', 'byteaout', 'bytearecv', 'byteasend', 0, -1, 0, 0),
  (18, 'char', 11, 10, 1, true, 'b', 'Z', false, true, ',', 0, 0, 1002, 'charin', 'charout', 'charrecv', 'charsend', 0, -1, 0, 0),
  (19, 'name', 11, 10, 64, false, 'b', 'S', false, true, ',', 0, 18, 1003, 'namein', 'nameout', 'namerecv', 'namesend', 0, -1, 0, 100),
  (20, 'int8', 11, 10, 8, true, 'b', 'N', false, true, ',', 0, 0, 1016, 'int8in', 'int8out', 'int8recv', 'int8send', 0, -1, 0, 0),
  (21, 'int2', 11, 10, 2, true, 'b', 'N', false, true, ',', 0, 0, 1005, 'int2in', 'int2out', 'int2recv', 'int2send', 0, -1, 0, 0),
  (23, 'int4', 11, 10, 4, true, 'b', 'N', false, true, ',', 0, 0, 1007, 'int4in', 'int4out', 'int4recv', 'int4send', 0, -1, 0, 0),
  (25, 'text', 11, 10, -1, false, 'b', 'S', true, true, ',', 0, 0, 1009, 'textin', 'textout', 'textrecv', 'textsend', 0, -1, 0, 100),
  (26, 'oid', 11, 10, 4, true, 'b', 'N', true, true, ',', 0, 0, 1028, 'oidin', 'oidout', 'oidrecv', 'oidsend', 0, -1, 0, 0),
  (700, 'float4', 11, 10, 4, true, 'b', 'N', false, true, ',', 0, 0, 1021, 'float4in', 'float4out', 'float4recv', 'float4send', 0, -1, 0, 0),
  (701, 'float8', 11, 10, 8, true, 'b', 'N', true, true, ',', 0, 0, 1022, 'float8in', 'float8out', 'float8recv', 'float8send', 0, -1, 0, 0),
  (1042, 'bpchar', 11, 10, -1, false, 'b', 'S', false, true, ',', 0, 0, 1014, 'bpcharin', 'bpcharout', 'bpcharrecv', 'bpcharsend', 0, -1, 0, 100),
  (1043, 'varchar', 11, 10, -1, false, 'b', 'S', false, true, ',', 0, 0, 1015, 'varcharin', 'varcharout', 'varcharrecv', 'varcharsend', 0, -1, 0, 100),
  (1082, 'date', 11, 10, 4, true, 'b', 'D', false, true, ',', 0, 0, 1182, 'date_in', 'date_out', 'date_recv', 'date_send', 0, -1, 0, 0),
  (1114, 'timestamp', 11, 10, 8, true, 'b', 'D', true, true, ',', 0, 0, 1115, 'timestamp_in', 'timestamp_out', 'timestamp_recv', 'timestamp_send', 0, -1, 0, 0),
  (1700, 'numeric', 11, 10, -1, false, 'b', 'N', false, true, ',', 0, 0, 1231, 'numeric_in', 'numeric_out', 'numeric_recv', 'numeric_send', 0, -1, 0, 0),
  (2205, 'regclass', 11, 10, 4, true, 'b', 'N', false, true, ',', 0, 0, 2210, 'regclassin', 'regclassout', 'regclassrecv', 'regclasssend', 0, -1, 0, 0),
  (2206, 'regtype', 11, 10, 4, true, 'b', 'N', false, true, ',', 0, 0, 2211, 'regtypein', 'regtypeout', 'regtyperecv', 'regtypesend', 0, -1, 0, 0),
  (1000, '_bool', 11, 10, -1, false, 'b', 'A', false, true, ',', 0, 16, 0, 'array_in', 'array_out', 'array_recv', 'array_send', 0, -1, 0, 0),
  (1002, '_char', 11, 10, -1, false, 'b', 'A', false, true, ',', 0, 18, 0, 'array_in', 'array_out', 'array_recv', 'array_send', 0, -1, 0, 0),
  (1003, '_name', 11, 10, -1, false, 'b', 'A', false, true, ',', 0, 19, 0, 'array_in', 'array_out', 'array_recv', 'array_send', 0, -1, 0, 0),
  (1016, '_int8', 11, 10, -1, false, 'b', 'A', false, true, ',', 0, 20, 0, 'array_in', 'array_out', 'array_recv', 'array_send', 0, -1, 0, 0),
  (1005, '_int2', 11, 10, -1, false, 'b', 'A', false, true, ',', 0, 21, 0, 'array_in', 'array_out', 'array_recv', 'array_send', 0, -1, 0, 0),
  (1007, '_int4', 11, 10, -1, false, 'b', 'A', false, true, ',', 0, 23, 0, 'array_in', 'array_out', 'array_recv', 'array_send', 0, -1, 0, 0),
  (1009, '_text', 11, 10, -1, false, 'b', 'A', false, true, ',', 0, 25, 0, 'array_in', 'array_out', 'array_recv', 'array_send', 0, -1, 0, 0),
  (1028, '_oid', 11, 10, -1, false, 'b', 'A', false, true, ',', 0, 26, 0, 'array_in', 'array_out', 'array_recv', 'array_send', 0, -1, 0, 0),
  (1022, '_float8', 11, 10, -1, false, 'b', 'A', false, true, ',', 0, 701, 0, 'array_in', 'array_out', 'array_recv', 'array_send', 0, -1, 0, 0),
  (1015, '_varchar', 11, 10, -1, false, 'b', 'A', false, true, ',', 0, 1043, 0, 'array_in', 'array_out', 'array_recv', 'array_send', 0, -1, 0, 0),
  (1182, '_date', 11, 10, -1, false, 'b', 'A', false, true, ',', 0, 1082, 0, 'array_in', 'array_out', 'array_recv', 'array_send', 0, -1, 0, 0),
  (1115, '_timestamp', 11, 10, -1, false, 'b', 'A', false, true, ',', 0, 1114, 0, 'array_in', 'array_out', 'array_recv', 'array_send', 0, -1, 0, 0),
  (1231, '_numeric', 11, 10, -1, false, 'b', 'A', false, true, ',', 0, 1700, 0, 'array_in', 'array_out', 'array_recv', 'array_send', 0, -1, 0, 0);
CREATE VIEW pg.names_of_types AS SELECT oid AS its_number, typname AS its_name FROM pg.pg_type;
CREATE VIEW pg.names_of_classes AS SELECT oid AS its_number, relname AS its_name FROM pg.pg_class;
CREATE MACRO version() AS 'PostgreSQL 15.0, as Oak Ledger speaks it';
CREATE MACRO current_setting(wanted) AS (SELECT setting FROM pg.pg_settings AS s WHERE s.name = lower(wanted));
CREATE MACRO pg_is_in_recovery() AS false;
CREATE MACRO pg_backend_pid() AS 0;
CREATE MACRO pg_encoding_to_char(number) AS 'UTF8';
CREATE MACRO pg_get_userbyid(number) AS 'oak';
CREATE VIEW pg.plainly_named AS SELECT any_value(oid) AS its_number FROM pg.pg_class GROUP BY relname HAVING count(*) = 1;
CREATE MACRO pg_table_is_visible(number) AS number IN (SELECT its_number FROM pg.plainly_named);
CREATE MACRO pg_type_is_visible(number) AS true;
CREATE MACRO pg_collation_is_visible(number) AS false;
CREATE MACRO pg_opclass_is_visible(number) AS false;
CREATE MACRO pg_opfamily_is_visible(number) AS false;
CREATE MACRO pg_size_pretty(size) AS CAST(size AS VARCHAR);
CREATE MACRO pg_operator_is_visible(number) AS false;
CREATE MACRO pg_is_other_temp_schema(number) AS false;
CREATE MACRO pg_my_temp_schema() AS 0;
CREATE MACRO inet_server_addr() AS CAST(NULL AS VARCHAR);
CREATE MACRO inet_server_port() AS CAST(NULL AS INTEGER);
CREATE MACRO pg_get_triggerdef(a, b := NULL) AS CAST(NULL AS VARCHAR);
CREATE MACRO pg_get_functiondef(a) AS CAST(NULL AS VARCHAR);
CREATE MACRO pg_get_function_identity_arguments(a) AS CAST(NULL AS VARCHAR);
CREATE MACRO pg_function_is_visible(number) AS true;
CREATE MACRO has_table_privilege(a, b := NULL, c := NULL) AS true;
CREATE MACRO has_schema_privilege(a, b := NULL, c := NULL) AS true;
CREATE MACRO has_database_privilege(a, b := NULL, c := NULL) AS true;
CREATE MACRO has_column_privilege(a, b := NULL, c := NULL, d := NULL) AS true;
CREATE MACRO has_any_column_privilege(a, b := NULL, c := NULL) AS true;
CREATE MACRO pg_has_role(a, b := NULL, c := NULL) AS true;
CREATE MACRO format_type(number, modifier) AS (
  CASE number WHEN 16 THEN 'boolean' WHEN 20 THEN 'bigint' WHEN 21 THEN 'smallint' WHEN 23 THEN 'integer' WHEN 25 THEN 'text' WHEN 701 THEN 'double precision' WHEN 1043 THEN 'character varying'
  WHEN 1082 THEN 'date' WHEN 1114 THEN 'timestamp without time zone' WHEN 1700 THEN CASE WHEN modifier > 4 THEN 'numeric(' || ((modifier - 4) >> 16) || ',' || ((modifier - 4) & 65535) || ')' ELSE 'numeric' END
  ELSE (SELECT its_name FROM pg.names_of_types WHERE its_number = number) END);
CREATE MACRO pg_get_expr(a, b, c := NULL) AS CAST(NULL AS VARCHAR);
CREATE MACRO pg_get_constraintdef(a, b := NULL) AS CAST(NULL AS VARCHAR);
CREATE MACRO pg_get_indexdef(a, b := NULL, c := NULL) AS CAST(NULL AS VARCHAR);
CREATE MACRO pg_get_viewdef(a, b := NULL) AS CAST(NULL AS VARCHAR);
CREATE MACRO pg_get_serial_sequence(a, b) AS CAST(NULL AS VARCHAR);
CREATE MACRO pg_get_partkeydef(a) AS CAST(NULL AS VARCHAR);
CREATE MACRO pg_get_ruledef(a, b := NULL) AS CAST(NULL AS VARCHAR);
CREATE MACRO pg_get_function_result(a) AS CAST(NULL AS VARCHAR);
CREATE MACRO pg_get_function_arguments(a) AS CAST(NULL AS VARCHAR);
CREATE MACRO pg_relation_is_publishable(a) AS false;
CREATE MACRO pg_relation_size(a) AS 0;
CREATE MACRO pg_total_relation_size(a) AS 0;
CREATE MACRO pg_table_size(a) AS 0;
CREATE MACRO obj_description(number, name := NULL) AS (SELECT description FROM pg.pg_description AS d WHERE d.objoid = number AND d.objsubid = 0);
CREATE MACRO col_description(number, place) AS (SELECT description FROM pg.pg_description AS d WHERE d.objoid = number AND d.objsubid = place);
CREATE MACRO shobj_description(a, b) AS CAST(NULL AS VARCHAR);
CREATE MACRO quote_ident(name) AS CASE WHEN regexp_full_match(name, '[a-z_][a-z0-9_]*') THEN name ELSE '"' || replace(name, '"', '""') || '"' END;
CREATE MACRO to_regclass(name) AS (SELECT its_number FROM pg.names_of_classes WHERE its_name = replace(regexp_replace(name, '^.*[.]', ''), '"', ''));
CREATE MACRO to_regtype(name) AS (SELECT its_number FROM pg.names_of_types WHERE its_name = name);
CREATE MACRO array_to_string(list, separator) AS list_aggregate(list, 'string_agg', separator);
CREATE MACRO _pg_expandarray(list) AS unnest(list_transform(list, lambda item, place: {'x': item, 'n': place}));
CREATE MACRO array_upper(list, dimension) AS len(list);
CREATE MACRO array_lower(list, dimension) AS 1;
