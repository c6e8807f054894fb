<?php
// Installs WordPress with content as real sites have it. Called with the
// site's folder and its address.
[, $root, $address] = $argv;
$parts = parse_url($address);
$_SERVER['HTTP_HOST'] = $parts['host'] . (isset($parts['port']) ? ':' . $parts['port'] : '');
$_SERVER['REQUEST_URI'] = '/';
$_SERVER['SERVER_NAME'] = $parts['host'];
$_SERVER['SERVER_PROTOCOL'] = 'HTTP/1.1';
if ($parts['scheme'] === 'https') { $_SERVER['HTTPS'] = 'on'; }
define('WP_INSTALLING', true);
define('WP_SITEURL', $address);
require $root . '/wp-load.php';
require_once ABSPATH . 'wp-admin/includes/upgrade.php';
require_once ABSPATH . 'wp-admin/includes/image.php';
add_filter('pre_wp_mail', '__return_true');
wp_install('Harbour Office “Nord”', 'keeper', 'keeper@harbour.example', true, '', 'lighthouse-1');
switch_theme('harbour');
update_option('permalink_structure', '/%year%/%postname%/');

// Images with all their sizes.
$images = [];
foreach (['Pier at dawn', 'Ölhafen', 'Ropes & knots'] as $i => $title) {
    $im = imagecreatetruecolor(900, 600);
    for ($y = 0; $y < 600; $y++) {
        imageline($im, 0, $y, 900, $y, imagecolorallocate($im, 30 + $i * 60, 90 + intdiv($y, 6), 220 - intdiv($y, 4)));
    }
    ob_start(); imagepng($im); $png = ob_get_clean();
    $up = wp_upload_bits(sanitize_file_name($title) . '.png', null, $png);
    $id = wp_insert_attachment(['post_title' => $title, 'post_mime_type' => 'image/png', 'guid' => $up['url']], $up['file']);
    wp_update_attachment_metadata($id, wp_generate_attachment_metadata($id, $up['file']));
    $images[] = ['id' => $id, 'url' => $address . parse_url($up['url'], PHP_URL_PATH), 'file' => $up['file']];
}
set_theme_mod('custom_logo', $images[0]['id']);
set_theme_mod('header_links', ['home' => $address, 'nested' => (object) ['url' => "$address/contact/?a=1&b=2"]]);

$ids = [];
for ($n = 1; $n <= 12; $n++) {
    $image = $images[$n % 3];
    $ids[] = wp_insert_post(wp_slash([
        'post_title' => "Notice $n: ships, tides & “weather”",
        'post_name' => "notice-$n",
        'post_status' => 'publish',
        'post_content' => "<!-- wp:image {\"id\":{$image['id']},\"linkDestination\":\"media\"} -->\n<figure class=\"wp-block-image\"><a href=\"{$image['url']}\"><img src=\"{$image['url']}\" alt=\"\"/></a></figure>\n<!-- /wp:image -->\n"
            . "<!-- wp:paragraph -->\n<p>See <a href=\"$address/2026/notice-" . max(1, $n - 1) . "/\">the last notice</a>, or share it: <a href=\"https://share.example/?u=" . rawurlencode("$address/2026/notice-$n/") . "\">here</a>. Grüße 🚢</p>\n<!-- /wp:paragraph -->\n"
            . "<!-- wp:button {\"url\":\"" . str_replace('/', '\/', "$address/contact/") . "\"} /-->",
    ]));
    set_post_thumbnail(end($ids), $image['id']);
}
$contact = wp_insert_post(['post_title' => 'Contact', 'post_name' => 'contact', 'post_type' => 'page', 'post_status' => 'publish',
    'post_content' => "Write to keeper@{$parts['host']} or come to <a href='$address/2026/notice-1/'>pier 1</a>."]);

// Page-builder data: JSON with escaped slashes, and serialized values in it.
$inner = serialize(['background' => ['url' => $images[1]['url'], 'id' => 7], 'floats' => [1.5, -0.1]]);
$builder = [['id' => 'a1', 'elType' => 'section', 'settings' => ['link' => "$address/contact/", 'html' => "<a href=\"$address/\">x</a>", 'raw' => $inner], 'elements' => [['widget' => 'image', 'image' => $images[0]['url']]]]];
update_post_meta($contact, '_builder_data', wp_slash(json_encode($builder)));
update_post_meta($contact, 'gallery', array_column($images, 'url'));
update_post_meta($contact, 'twice', serialize(serialize(['link' => "$address/x", 'ümlaut' => 'Grüße'])));
update_option('harbour_settings', ['logo' => $images[0]['url'], 'cb' => ['json' => json_encode(['u' => "$address/feed/"]), 'root' => ABSPATH . 'wp-content/uploads'], 'n' => null, 'b' => true, 'f' => 0.1]);

// Widgets and a menu.
update_option('widget_text', [2 => ['title' => 'Links', 'text' => "<a href=\"$address/contact/\">Contact</a> <img src=\"{$images[2]['url']}\">", 'filter' => true, 'visual' => true], '_multiwidget' => 1]);
update_option('widget_custom_html', [3 => ['title' => '', 'content' => "<p><a href='//{$parts['host']}" . (isset($parts['port']) ? ":{$parts['port']}" : '') . "/2026/notice-2/'>schemeless</a></p>"], '_multiwidget' => 1]);
update_option('sidebars_widgets', ['side' => ['text-2', 'custom_html-3'], 'wp_inactive_widgets' => [], 'array_version' => 3]);
$menu = wp_create_nav_menu('Main');
wp_update_nav_menu_item($menu, 0, ['menu-item-title' => 'Contact', 'menu-item-object' => 'page', 'menu-item-object-id' => $contact, 'menu-item-type' => 'post_type', 'menu-item-status' => 'publish']);
wp_update_nav_menu_item($menu, 0, ['menu-item-title' => 'First', 'menu-item-url' => "$address/2026/notice-1/", 'menu-item-type' => 'custom', 'menu-item-status' => 'publish']);
set_theme_mod('nav_menu_locations', ['main' => $menu]);
wp_insert_comment(['comment_post_ID' => $ids[0], 'comment_author' => 'Sailor', 'comment_content' => "Nice, see $address/2026/notice-2/", 'comment_approved' => 1]);

global $wp_rewrite;
$wp_rewrite->init();
$wp_rewrite->flush_rules(false);
echo "installed\n";
