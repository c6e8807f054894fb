<!DOCTYPE html>
<html <?php language_attributes(); ?>>
<head><meta charset="<?php bloginfo('charset'); ?>"><link rel="stylesheet" href="<?php echo get_stylesheet_uri(); ?>"><?php wp_head(); ?></head>
<body <?php body_class(); ?>>
<header><?php the_custom_logo(); ?><h1><a href="<?php echo esc_url(home_url('/')); ?>"><?php bloginfo('name'); ?></a></h1>
<?php wp_nav_menu(['theme_location' => 'main']); ?></header>
<main>
<?php while (have_posts()) : the_post(); ?>
<article><h2><a href="<?php the_permalink(); ?>"><?php the_title(); ?></a></h2><?php the_post_thumbnail('medium'); the_content(); ?></article>
<?php endwhile; ?>
</main>
<aside><?php dynamic_sidebar('side'); ?></aside>
<?php wp_footer(); ?>
</body>
</html>
