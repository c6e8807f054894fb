<?php
// What a web server's rewrite rules do: files as they are, the rest to index.php
// of the site, which may lie at a base path.
$base = getenv('SITE_BASE');
unset($_SERVER['PATH_INFO']); // which this server sets where others do not
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
// Members of a network share the program: /member/wp-admin/… is /wp-admin/….
if (preg_match('#^' . preg_quote($base, '#') . '/[_0-9a-zA-Z-]+(/wp-(?:content|admin|includes).*|/[^/]*\.php)$#', $path, $m)) {
    $file = $_SERVER['DOCUMENT_ROOT'] . $base . $m[1];
    if (is_dir($file)) { $file = rtrim($file, '/') . '/index.php'; }
    if (is_file($file) && str_ends_with($file, '.php')) {
        $_SERVER['SCRIPT_NAME'] = $_SERVER['PHP_SELF'] = $path . (str_ends_with($path, '/') ? 'index.php' : '');
        $_SERVER['SCRIPT_FILENAME'] = $file;
        chdir(dirname($file));
        require $file;
        return true;
    }
    if (is_file($file)) { readfile($file); return true; }
}
$_SERVER['SCRIPT_NAME'] = $_SERVER['PHP_SELF'] = $base . '/index.php';
chdir($_SERVER['DOCUMENT_ROOT'] . $base);
require $_SERVER['DOCUMENT_ROOT'] . $base . '/index.php';
