"""The live page: a server on loopback, and a page that draws by the exported shader."""
