// Package reference holds no program: its tests are a second opinion on everything that measures.
//
// A generator makes small jobs at random: grids in every projection method, rasters from one cell up in every cell type with nodata,
// NaN and masks, zones in the grid's CRS and in degrees, legends, crosswalks, groups, epochs, tiles, stacks. Each is done twice: by the program as
// its users run it, and by plain code that knows whole arrays, polygons of cells and a general geometry library, but no tiles, threads,
// windows, spans or views (plain_test.go). Both agree, or the program ends in an error that says why. What surrounds the cells is held to the tables of the same job: what is kept from
// run to run (edits), ids and classes as they were written (texts), and what workbooks, books, explanations, figures and reports show (shown).
//
//	VERDEX_SECOND_OPINION=5m go test ./internal/reference     how long new jobs are tried
//	VERDEX_JOB='change 1234' go test ./internal/reference     one job again, by its kind and seed
//	VERDEX_FILES=DIR                                          and its files stay in DIR
//
// testdata/seeds.txt keeps the kinds and seeds of all jobs in which a mistake was found.
package reference
