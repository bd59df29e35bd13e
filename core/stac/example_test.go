package stac_test

import (
	"fmt"
	"time"

	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/stac"
)

func ExampleFind() {
	catalog := files.Memory{
		"https://data.example/catalog.json": []byte(`{"type":"Catalog","stac_version":"1.0.0","links":[{"rel":"item","href":"2012/item.json"}]}`),
		"https://data.example/2012/item.json": []byte(`{"type":"Feature","stac_version":"1.0.0","id":"cover-2012","properties":{"datetime":"2012-06-18T00:00:00Z"},
			"assets":{"cover":{"href":"cover.tif","type":"image/tiff","raster:bands":[{"nodata":0}]}}}`),
	}
	from := time.Date(2012, 1, 1, 0, 0, 0, 0, time.UTC)
	items, err := stac.Find(catalog, "https://data.example/catalog.json", stac.Query{Asset: "cover", From: from, To: from.AddDate(1, 0, 0)})
	if err != nil {
		panic(err)
	}
	fmt.Println(items[0].ID, items[0].Href, *items[0].NoData)
	// Output:
	// cover-2012 https://data.example/2012/cover.tif 0
}
