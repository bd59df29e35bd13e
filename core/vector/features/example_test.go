package features_test

import (
	"fmt"

	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/vector/features"
)

func ExampleRead() {
	const wards = "https://data.example/collections/wards"
	answers := files.Memory{ // instead of a server
		wards: []byte(`{"id":"wards","links":[{"rel":"items","href":"wards/items"}]}`),
		wards + "/items?limit=1000": []byte(`{"type":"FeatureCollection","links":[{"rel":"next","href":"items?page=2"}],
			"features":[{"type":"Feature","properties":{"code":"W1"},"geometry":null}]}`),
		wards + "/items?page=2": []byte(`{"type":"FeatureCollection","links":[],
			"features":[{"type":"Feature","properties":{"code":"W2"},"geometry":null}]}`),
	}
	l, err := features.Read(answers, wards, features.Query{})
	if err != nil {
		panic(err)
	}
	fmt.Println(len(l.Features), l.FieldNames(), l.Features[1].Values)
	// Output:
	// 2 [code] [W2]
}
