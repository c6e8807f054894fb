<?php
// Makes a network of an installed WordPress site: "tables" first, then, with the
// constants in its settings, "members", three sites with a post each.
[, $root, $address, $step] = $argv;
$parts = parse_url($address);
$domain = $parts['host'] . (isset($parts['port']) ? ':' . $parts['port'] : '');
$_SERVER['HTTP_HOST'] = $domain;
$_SERVER['REQUEST_URI'] = ($parts['path'] ?? '') . '/';
$_SERVER['SERVER_NAME'] = $parts['host'];
$_SERVER['SERVER_PROTOCOL'] = 'HTTP/1.1';
require $root . '/wp-load.php';
require_once ABSPATH . 'wp-admin/includes/upgrade.php';
require_once ABSPATH . 'wp-admin/includes/network.php';
if ($step === 'tables') {
    foreach ($wpdb->tables('ms_global') as $table => $prefixed) { $wpdb->$table = $prefixed; }
    install_network();
    $result = populate_network(1, $domain, 'keeper@harbour.example', 'Harbours', ($parts['path'] ?? '') . '/', false);
    if (is_wp_error($result) && $result->get_error_code() !== 'no_wildcard_dns') { echo $result->get_error_message(); exit(1); }
    echo "tables\n";
    exit;
}
$keeper = get_user_by('login', 'keeper')->ID;
foreach (['nord' => 'Nordhafen', 'sued' => 'Südhafen', 'west' => 'Westhafen'] as $path => $title) {
    $id = wp_insert_site(['domain' => $domain, 'path' => ($parts['path'] ?? '') . "/$path/", 'network_id' => 1, 'title' => $title, 'user_id' => $keeper]);
    if (is_wp_error($id)) { echo $id->get_error_message(); exit(1); }
    switch_to_blog($id);
    switch_theme('harbour');
    update_option('permalink_structure', '/%year%/%postname%/');
    $up = wp_upload_bits("$path.png", null, "file of $title");
    wp_insert_post(wp_slash(['post_title' => "$title opens", 'post_name' => 'opens', 'post_status' => 'publish', 'post_content' => "Beside <a href=\"$address/\">the first</a>, <a href=\"$address/$path/2026/opens/\">here</a>, <a href=\"{$up['url']}\">a file</a>."]));
    update_option('member_links', ['self' => "$address/$path/", 'other' => "$address/nord/"]);
    delete_option('rewrite_rules');
    restore_current_blog();
}
echo "members\n";
