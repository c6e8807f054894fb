<?php
// links.php FOLDER STRUCTURE CATEGORY-BASE: sets the permalinks, or, with two dashes for
// them, prints where WordPress says that its pages are, as JSON: path => title.
[, $folder, $structure, $category] = $argv;
$_SERVER['HTTP_HOST'] = 'localhost';
$_SERVER['REQUEST_URI'] = '/blog/';
require "$folder/wp-load.php";
if ($structure !== '--') {
    update_option('permalink_structure', $structure);
    update_option('category_base', $category);
    delete_option('rewrite_rules');
    if (!term_exists('Steam', 'category')) { // sections below sections, and pages below pages
        $ferries = wp_insert_term('Ferries', 'category');
        $steam = wp_insert_term('Steam', 'category', ['parent' => $ferries['term_id']]);
        $posts = get_posts(['post_type' => 'post', 'numberposts' => 3]);
        wp_set_post_terms($posts[0]->ID, [$steam['term_id']], 'category');
        wp_set_post_terms($posts[1]->ID, [$steam['term_id'], $ferries['term_id']], 'category');
        wp_set_post_terms($posts[2]->ID, ['Grüße', 'two words'], 'post_tag');
        $page = get_page_by_path('contact');
        $below = wp_insert_post(['post_title' => 'Way', 'post_name' => 'way', 'post_type' => 'page', 'post_status' => 'publish', 'post_parent' => $page->ID]);
        wp_insert_post(['post_title' => 'By boat', 'post_name' => 'by-boat', 'post_type' => 'page', 'post_status' => 'publish', 'post_parent' => $below]);
        wp_insert_post(['post_title' => 'Draft', 'post_name' => 'draft', 'post_status' => 'draft']);
    }
    exit;
}
$out = [];
$add = function ($url, $title) use (&$out) {
    $out[preg_replace('~^https?://[^/]+~', '', $url)] = html_entity_decode($title, ENT_QUOTES | ENT_HTML5);
};
$list = function () use ($add) {
    foreach (get_posts(['post_type' => ['post', 'page'], 'numberposts' => -1, 'post_status' => 'publish']) as $p) {
        if (!(get_option('show_on_front') === 'page' && (int) get_option('page_on_front') === $p->ID)) {
            $add(get_permalink($p), $p->post_title);
        }
    }
    foreach (['category', 'post_tag'] as $taxonomy) {
        foreach (get_terms(['taxonomy' => $taxonomy, 'hide_empty' => true]) as $t) {
            if ($t->count > 0) {
                $add(get_term_link($t), $t->name);
            }
        }
    }
    foreach (get_users(['has_published_posts' => ['post']]) as $u) {
        $add(get_author_posts_url($u->ID, $u->user_nicename), $u->user_nicename);
    }
};
if (is_multisite()) {
    foreach (get_sites() as $member) {
        switch_to_blog($member->blog_id);
        $GLOBALS['wp_rewrite']->init();
        create_initial_taxonomies();
        $list();
        restore_current_blog();
    }
} else {
    $list();
}
ksort($out);
echo json_encode($out);
