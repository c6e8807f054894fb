<?php
// The reference for BenchmarkMetadata: the same values, read, walked, replaced
// and written by PHP. Prints MB/s on one core.
$sizes = [];
foreach (['thumbnail' => 150, 'medium' => 300, 'large' => 1024, 'banner' => 1536] as $name => $w) {
    $sizes[$name] = ['file' => "harbour-{$w}x$w.jpg", 'width' => $w, 'height' => $w, 'mime-type' => 'image/jpeg', 'filesize' => $w * 97];
}
$value = serialize(['width' => 2048, 'height' => 1365, 'file' => '2024/05/harbour.jpg', 'filesize' => 412345, 'sizes' => $sizes,
    'source' => 'http://old.example/wp-content/uploads/2024/05/harbour.jpg', 'image_meta' => ['aperture' => '8', 'credit' => '', 'camera' => 'A', 'keywords' => []]]);
if (($argv[1] ?? '') === 'value') { echo $value; exit; }
$n = 200000; $t = microtime(true);
for ($i = 0; $i < $n; $i++) {
    $x = unserialize($value);
    array_walk_recursive($x, function (&$s) { if (is_string($s)) { $s = str_replace('http://old.example', 'https://new.example', $s); } });
    $out = serialize($x);
}
printf("PHP %.1f MB/s\n", $n * strlen($value) / (microtime(true) - $t) / 1e6);
