// Package httpapi serves a site over HTTP: the API under /api/v1, described by OpenAPI
// 3.1 at /api/v1/openapi.json, live events, archives to download, and the console.
//
// Clients on the same host come by a unix socket and are trusted by its file
// permissions; all others show a token, as a bearer or, in the console, by a cookie.
package httpapi
