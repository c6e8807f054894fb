package sqltree

import "hovix/internal/database/sqltext"

// functions are those that do nothing but to compute a value from their arguments, the
// clock or chance: they reach no file, no network, no setting, no other session and no
// table, and do not wait. The names are from the references of the servers: MariaDB and
// MySQL, Function and Operator Reference; PostgreSQL 15, Functions and Operators, with
// those of later versions; SQLite, Built-in Functions.
var functions = map[sqltext.Dialect]map[string]bool{
	sqltext.MySQL: set(`
		abs acos add_months adddate addtime aes_decrypt aes_encrypt any_value area asbinary ascii asin astext aswkb aswkt atan atan2 avg bin bin_to_uuid
		bit_and bit_count bit_length bit_or bit_xor boundary buffer cast ceil ceiling centroid char char_length character_length charset chr coalesce
		coercibility collation column_add column_check column_create column_delete column_exists column_get column_json column_list compress concat concat_ws
		connection_id contains conv convert convert_tz convexhull cos cot count crc32 crc32c crosses cume_dist curdate current_date current_time
		current_timestamp current_user curtime database date date_add date_format date_sub datediff day dayname dayofmonth dayofweek dayofyear decode
		decode_oracle default degrees dense_rank des_decrypt des_encrypt dimension disjoint elt encode endpoint envelope equals exp export_set exteriorring
		extract extractvalue field find_in_set first_value floor format format_bytes format_pico_time from_base64 from_days from_unixtime geomcollfromtext
		geometrycollection geometryfromtext geometryn geometrytype geomfromtext geomfromwkb get_format glength greatest group_concat grouping hex hour if
		ifnull inet6_aton inet6_ntoa inet_aton inet_ntoa insert instr interiorringn intersects interval is_ipv4 is_ipv4_compat is_ipv4_mapped is_ipv6 is_uuid
		isclosed isempty isnull isring issimple json_array json_array_append json_array_insert json_array_intersect json_arrayagg json_compact json_contains
		json_contains_path json_depth json_detailed json_equals json_exists json_extract json_insert json_keys json_length json_loose json_merge
		json_merge_patch json_merge_preserve json_normalize json_object json_object_filter_keys json_object_to_array json_objectagg json_overlaps json_pretty
		json_query json_quote json_remove json_replace json_schema_valid json_search json_set json_storage_free json_storage_size json_type json_unquote
		json_valid json_value kdf lag last_day last_value lcase lead least left length lengthb linefromtext linestring ln localtime localtimestamp locate log
		log10 log2 lower lpad ltrim make_set makedate maketime max mbrcontains mbrcoveredby mbrdisjoint mbrequal mbrequals mbrintersects mbroverlaps
		mbrtouches mbrwithin md5 median microsecond mid min minute mod month monthname multilinestring multipoint multipolygon natural_sort_key now nth_value
		ntile nullif numgeometries numinteriorrings numpoints nvl nvl2 oct octet_length old_password ord overlaps password percent_rank percentile_cont
		percentile_disc period_add period_diff pi point pointfromtext pointn pointonsurface polyfromtext polygon position pow power quarter quote radians rand
		random_bytes rank regexp_instr regexp_like regexp_replace regexp_substr repeat replace reverse right round row_number rpad rtrim schema sec_to_time
		second session_user sformat sha sha1 sha2 sign sin soundex space sqrt srid st_area st_asbinary st_asgeojson st_astext st_aswkb st_aswkt st_boundary
		st_buffer st_centroid st_collect st_contains st_convexhull st_crosses st_difference st_dimension st_disjoint st_distance st_distance_sphere
		st_endpoint st_envelope st_equals st_exteriorring st_geohash st_geometryn st_geometrytype st_geomfromgeojson st_geomfromtext st_geomfromwkb
		st_interiorringn st_intersection st_intersects st_isclosed st_isempty st_isring st_issimple st_isvalid st_latfromgeohash st_latitude st_length
		st_linefromtext st_longfromgeohash st_longitude st_makeenvelope st_makepoint st_numgeometries st_numinteriorrings st_numpoints st_overlaps
		st_pointfromgeohash st_pointfromtext st_pointn st_pointonsurface st_polyfromtext st_relate st_simplify st_srid st_startpoint st_swapxy
		st_symdifference st_touches st_transform st_union st_validate st_within st_x st_y startpoint std stddev stddev_pop stddev_samp str_to_date strcmp
		subdate substr substrb substring substring_index subtime sum sys_guid sysdate system_user tan time time_format time_to_sec timediff timestamp
		timestampadd timestampdiff to_base64 to_char to_date to_days to_seconds touches trim truncate ucase uncompress uncompressed_length unhex
		unix_timestamp updatexml upper user utc_date utc_time utc_timestamp uuid uuid_short uuid_to_bin values var_pop var_samp variance vec_distance
		vec_distance_cosine vec_distance_euclidean vec_fromtext vec_totext version week weekday weekofyear weight_string within x y year yearweek`),
	sqltext.Postgres: set(`
		abbrev abs acos acosd acosh age any_value area array_agg array_append array_cat array_dims array_eq array_fill array_length array_lower array_ndims
		array_position array_positions array_prepend array_remove array_replace array_reverse array_sample array_shuffle array_sort array_to_json
		array_to_string array_to_tsvector array_upper arraycontained arraycontains arrayoverlap ascii asin asind asinh atan atan2 atan2d atand atanh avg bit
		bit_and bit_count bit_length bit_or bit_xor bool bool_and bool_or box bpchar broadcast btrim cardinality casefold cash_words cbrt ceil ceiling center
		char char_length character_length chr cidr circle clock_timestamp coalesce concat concat_ws convert convert_from convert_to corr cos cosd cosh cot
		cotd count covar_pop covar_samp crc32 crc32c cume_dist current_catalog current_database current_schema current_user date date_add date_bin date_part
		date_subtract date_trunc datemultirange daterange decode degrees dense_rank dexp diagonal diameter div dlog1 dlog10 dpow dround dtrunc encode
		enum_first enum_last enum_range erf erfc every exp extract factorial family first_value float4 float8 float8_avg float8_corr float8_covar_pop
		float8_covar_samp float8_regr_avgx float8_regr_avgy float8_regr_intercept float8_regr_r2 float8_regr_slope float8_regr_sxx float8_regr_sxy
		float8_regr_syy float8_stddev_pop float8_stddev_samp float8_var_pop float8_var_samp float8mul floor format format_type gamma gcd gen_random_uuid
		generate_series generate_subscripts get_bit get_byte get_current_ts_config getdatabaseencoding greatest grouping hash_array hashint4 hashint8 hashtext
		height host hostmask inet inet_client_addr initcap int2 int2_sum int2int4_sum int4 int4_sum int4inc int4multirange int4range int8 int8_avg int8_sum
		int8dec int8dec_any int8inc int8inc_any int8inc_float8_float8 int8multirange int8range interval interval_avg is_normalized isclosed isempty isfinite
		ishorizontal isopen isparallel isperp isvertical json json_agg json_array_elements json_array_elements_text json_array_length json_build_array
		json_build_object json_each json_each_text json_object json_object_agg json_object_keys json_populate_record json_populate_recordset json_strip_nulls
		json_to_record json_to_recordset json_to_tsvector json_typeof jsonb jsonb_agg jsonb_array_elements jsonb_array_elements_text jsonb_array_length
		jsonb_build_array jsonb_build_object jsonb_each jsonb_each_text jsonb_insert jsonb_object jsonb_object_agg jsonb_object_keys jsonb_path_exists
		jsonb_path_exists_tz jsonb_path_match jsonb_path_match_tz jsonb_path_query jsonb_path_query_array jsonb_path_query_array_tz jsonb_path_query_first
		jsonb_path_query_first_tz jsonb_path_query_tz jsonb_populate_record jsonb_populate_recordset jsonb_pretty jsonb_set jsonb_set_lax jsonb_strip_nulls
		jsonb_to_record jsonb_to_recordset jsonb_to_tsvector jsonb_typeof justify_days justify_hours justify_interval lag last_value lcm lead least left
		length lgamma like like_escape line ln log log10 lower lower_inc lower_inf lpad lseg ltrim macaddr macaddr8 macaddr8_set7bit make_date make_interval
		make_time make_timestamp make_timestamptz masklen max md5 min min_scale mod mode money multirange name nameconcatoid netmask network normalize notlike
		now npoints nth_value ntile nullif num_nonnulls num_nulls numeric numeric_add numeric_div_trunc numeric_exp numeric_inc numeric_ln numeric_log
		numeric_sqrt nummultirange numnode numrange octet_length oid overlaps overlay parse_ident path pclose percent_rank percentile_cont percentile_disc
		pg_client_encoding pg_column_size pg_size_bytes pg_size_pretty pg_trigger_depth pg_typeof phraseto_tsquery pi plainto_tsquery point polygon popen
		position pow power quote_ident quote_literal quote_nullable radians radius random random_normal range_agg range_intersect_agg range_merge rank
		regexp_count regexp_instr regexp_like regexp_match regexp_matches regexp_replace regexp_split_to_array regexp_split_to_table regexp_substr regr_avgx
		regr_avgy regr_count regr_intercept regr_r2 regr_slope regr_sxx regr_sxy regr_syy repeat replace reverse right round row_number row_to_json rpad rtrim
		scale session_user set_bit set_byte set_masklen setweight sha224 sha256 sha384 sha512 sign similar_escape similar_to_escape sin sind sinh slope
		split_part sqrt statement_timestamp stddev stddev_pop stddev_samp string_agg string_to_array string_to_table strip strpos substr substring sum tan
		tand tanh text textcat texteq textlen textlike textnlike time timeofday timestamp timestamptz timetz timezone to_ascii to_bin to_char to_date to_hex
		to_json to_jsonb to_number to_oct to_timestamp to_tsquery to_tsvector transaction_timestamp translate trim_array trim_scale trunc ts_delete ts_filter
		ts_headline ts_lexize ts_parse ts_rank ts_rank_cd ts_token_type tsmultirange tsquery_phrase tsrange tstzmultirange tstzrange tsvector_to_array unistr
		unnest upper upper_inc upper_inf uuid uuid_extract_timestamp uuid_extract_version uuidv4 uuidv7 var_pop var_samp varbit varchar variance version
		websearch_to_tsquery width width_bucket xml xml_is_well_formed xml_is_well_formed_content xml_is_well_formed_document xmlagg xmlcomment xmlconcat
		xmlconcat2 xmlelement xmlexists xmlforest xmltext xmlvalidate xpath xpath_exists`),
	sqltext.SQLite: set(`
		abs acos acosh asin asinh atan atan2 atanh avg cast ceil ceiling changes char coalesce concat concat_ws cos cosh count cume_dist date datetime degrees
		dense_rank exp first_value floor format glob group_concat hex if ifnull iif instr json json_array json_array_length json_each json_error_position
		json_extract json_group_array json_group_object json_insert json_object json_patch json_pretty json_quote json_remove json_replace json_set json_tree
		json_type json_valid jsonb jsonb_array jsonb_extract jsonb_group_array jsonb_group_object jsonb_insert jsonb_object jsonb_patch jsonb_remove
		jsonb_replace jsonb_set julianday lag last_insert_rowid last_value lead length like likelihood likely ln log log10 log2 lower ltrim match max median
		min mod nth_value ntile nullif octet_length percent_rank percentile percentile_cont percentile_disc pi pow power printf quote radians raise random
		randomblob rank regexp replace round row_number rtrim sign sin sinh soundex sqlite_version sqrt strftime string_agg substr substring subtype sum tan
		tanh time timediff total total_changes trim trunc typeof unhex unicode unistr unistr_quote unixepoch unlikely upper zeroblob`),
}

// ExtensionFunctions are the extensions of PostgreSQL that a site may bring, those that
// the server trusts any owner of a database with and few more of the same kind, and
// which of their functions may be called in definitions.
var ExtensionFunctions = map[string]map[string]bool{
	"bloom":           set(``),
	"btree_gin":       set(``),
	"btree_gist":      set(``),
	"citext":          set(`regexp_match regexp_matches regexp_replace regexp_split_to_array regexp_split_to_table replace split_part strpos translate citext citext_eq citext_ne min max lower upper`),
	"cube":            set(`cube cube_dim cube_distance cube_enlarge cube_inter cube_is_point cube_ll_coord cube_size cube_subset cube_union cube_ur_coord cube_contains cube_overlap`),
	"dict_int":        set(``),
	"dict_xsyn":       set(``),
	"earthdistance":   set(`earth earth_box earth_distance gc_to_sec latitude ll_to_earth longitude sec_to_gc`),
	"fuzzystrmatch":   set(`daitch_mokotoff difference dmetaphone dmetaphone_alt levenshtein levenshtein_less_equal metaphone soundex text_soundex`),
	"hstore":          set(`akeys avals defined delete each exist hstore hstore_to_array hstore_to_json hstore_to_json_loose hstore_to_jsonb hstore_to_jsonb_loose hstore_to_matrix isdefined isexists populate_record skeys slice slice_array svals tconvert exists_any exists_all fetchval hs_concat hs_contains hs_contained`),
	"intagg":          set(`int_array_aggregate int_array_enum`),
	"intarray":        set(`icount idx intset sort sort_asc sort_desc subarray uniq`),
	"isn":             set(`is_valid make_valid ean13 isbn isbn13 ismn ismn13 issn issn13 upc`),
	"lo":              set(`lo_oid`),
	"ltree":           set(`index lca ltree2text nlevel subltree subpath text2ltree`),
	"pg_trgm":         set(`show_trgm similarity strict_word_similarity word_similarity`),
	"pgcrypto":        set(`armor crypt dearmor decrypt decrypt_iv digest encrypt encrypt_iv gen_random_bytes gen_random_uuid gen_salt hmac pgp_sym_decrypt pgp_sym_decrypt_bytea pgp_sym_encrypt pgp_sym_encrypt_bytea pgp_pub_encrypt pgp_key_id`),
	"plpgsql":         set(``),
	"seg":             set(`seg_center seg_lower seg_size seg_upper seg_union seg_inter`),
	"tablefunc":       set(`normal_rand`),
	"tcn":             set(``),
	"tsm_system_rows": set(``),
	"tsm_system_time": set(``),
	"unaccent":        set(`unaccent`),
	"uuid-ossp":       set(`uuid_generate_v1 uuid_generate_v1mc uuid_generate_v3 uuid_generate_v4 uuid_generate_v5 uuid_nil uuid_ns_dns uuid_ns_oid uuid_ns_url uuid_ns_x500`),
	"vector":          set(`vector array_to_vector vector_to_float4 l2_distance inner_product cosine_distance l1_distance vector_dims vector_norm l2_normalize`),
}
