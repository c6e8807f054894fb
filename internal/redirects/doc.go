// Package redirects leads from the old addresses of a site to tested rules for a web
// server: inventories of pages, the map from old pages to new ones, its check, and the
// rules that are written from it. Inventories and maps are CSV files that people edit in
// spreadsheets; table.go reads them as spreadsheets leave them.
//
// It knows no flags and no terminal; pages are fetched by package crawl.
package redirects
