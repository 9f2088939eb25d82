package fake

// This file is the words of titles and names of things. The library's concrete
// nouns have washing machines and zebras among them; these could stand on any
// label.

import "strings"

var (
	things = strings.Fields(
		`meadow harbour lantern orchard river garden valley bridge window mountain forest island morning letter market mirror
		paper stone feather ribbon basket kettle candle compass anchor saddle ladder chimney courtyard hillside lighthouse riverbank footpath workshop
		library gallery terrace pavilion greenhouse cellar attic cottage station signal whistle marble amber cedar willow maple clover heather thistle
		bramble pebble current journal archive chapter margin summit canal quarry vineyard paddock hedge fountain archway staircase drawer cabinet`,
	)
	qualities = strings.Fields(
		`quiet northern southern eastern western early late silver golden hidden open old new small tall narrow wide bright pale
		gentle patient distant hollow winding upper lower second third steady clear plain mild crisp green blue amber grey round long short deep shallow
		inner outer sunny shaded windy dry wooden stony sandy simple careful faithful modest lively sturdy slender spare`,
	)
)
