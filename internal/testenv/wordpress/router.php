<?php
// What a web server's rewrite rules do: files as they are, the rest to index.php
// of the site, which may lie at a base path.
$base = getenv('SITE_BASE');
$path = rawurldecode(parse_url($_SERVER['REQUEST_URI'], PHP_URL_PATH));
$file = $_SERVER['DOCUMENT_ROOT'] . $path;
if (is_file($file)) {
    return false;
}
if (is_dir($file) && rtrim($path, '/') !== $base && is_file(rtrim($file, '/') . '/index.php')) {
    $_SERVER['SCRIPT_NAME'] = $_SERVER['PHP_SELF'] = rtrim($path, '/') . '/index.php';
    chdir($file);
    require rtrim($file, '/') . '/index.php';
    return true;
}
$_SERVER['SCRIPT_NAME'] = $_SERVER['PHP_SELF'] = $base . '/index.php';
chdir($_SERVER['DOCUMENT_ROOT'] . $base);
require $_SERVER['DOCUMENT_ROOT'] . $base . '/index.php';
