<?php
add_action('after_setup_theme', function () {
    add_theme_support('title-tag');
    add_theme_support('post-thumbnails');
    add_theme_support('custom-logo');
    register_nav_menus(['main' => 'Main menu']);
});
add_action('widgets_init', function () {
    register_sidebar(['id' => 'side', 'name' => 'Side']);
});
