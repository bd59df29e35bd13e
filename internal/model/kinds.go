package model

// Kind is a kind of table, as the reference describes it.
type Kind struct {
	Name, About string
	Columns     []Column
	More        string // columns that depend on the job, in words; "" for none
}

// Kinds are all kinds of tables. The columns of each are defined here and nowhere else.
var Kinds = []*Kind{extentsKind, wideExtentsKind, changesKind, transitionsKind, matrixKind, partsKind, intensityKind, historiesKind, sinceKind, flickerKind, summariesKind, compositionKind, wideCompositionKind, rankKind, extentAccountKind, remainingKind, flowsKind, seriesKind,
	accuraciesKind, errorMatrixKind, checksKind, legendsKind, zonesKind, bookAccountsKind, bookHistoryKind, bookDiffKind}

func kind(name, about, columns, more string) *Kind {
	return &Kind{Name: name, About: about, Columns: pick(columns), More: more}
}

const classesAcross = "a column with the area of each class"

var (
	extentsKind         = kind("extents", "The extent of each part of each zone: its classes, and the ground that is in none. Made by `measure`; a row for each part.", "epoch,zone_id,zone_name,kind,class_code,class_name,area,unit,pct_of_zone,pct_of_classified,cells,nominal_area", "with `--within`, `within_id` and `within_name`, and rows for the larger units; with `--approximate`, `expected_error_pct`")
	wideExtentsKind     = kind("extents", "The same with `--layout wide`: a row for each zone.", "epoch,zone_id,zone_name,unit,zone_area,nodata,unlisted,outside", classesAcross)
	changesKind         = kind("change", "The account of each class in each zone between two epochs. Made by `change`.", "zone_id,zone_name,from_epoch,to_epoch,class_code,class_name,opening,additions,reductions,net_change,closing,unit,pct_change,pct_change_per_year,pct_change_per_year_compound", "")
	transitionsKind     = kind("transitions", "The ground that each class gave to each other class. Made by `change --table matrix`.", "zone_id,zone_name,from_epoch,to_epoch,from_code,from_name,to_code,to_name,area,unit,pct_of_zone,pct_of_opening", "")
	matrixKind          = kind("matrix", "The same as a square, a row for each class of the earlier epoch. Made by `change --table matrix --layout wide` and `account matrix`.", "zone_id,zone_name,from_epoch,to_epoch,from_code,from_name,not mapped,total,unit", classesAcross+" of the later epoch")
	partsKind           = kind("parts", "The change of each class in three parts. Made by `change --table parts`.", "zone_id,zone_name,from_epoch,to_epoch,class_code,class_name,gain,loss,net_change,quantity,exchange,shift,unit", "")
	historiesKind       = kind("histories", "What each piece of ground went through over all epochs, in each zone, the largest first. Made by `change --table histories`.", "zone_id,zone_name,epoch_labels,history,history_codes,course,histories,changes,since_epoch,area,unit,pct_of_zone", "")
	flickerKind         = kind("flicker", "Ground that changes its class from one epoch to the next and has its old one at the third: a row for each class and the one between. What errors of the maps would make of ground that does not change is known with `--accuracy`. Made by `change --table flicker`.", "zone_id,zone_name,epoch_labels,class_code,class_name,between_code,between_name,area,expected,unexplained,unit,pct_of_changed", "")
	sinceKind           = kind("since", "Since when the ground of each class has been that class, as far as the epochs show: a row for each epoch since which some has. Made by `change --table since`.", "zone_id,zone_name,epoch,class_code,class_name,since_epoch,years,area,unit,pct_of_extent,mean_years", "")
	intensityKind       = kind("intensity", "How intense change is beside an even spread. Made by `change --table intensity`.", "zone_id,zone_name,from_epoch,to_epoch,level,from_code,from_name,to_code,to_name,area_per_year,unit,intensity_pct,uniform_pct,stands,per", "")
	summariesKind       = kind("summary", "Statistics of measurements in each zone. Made by `summarise`.", "zone_id,zone_name", "with `--per-class`, `class_code` and `class_name`; a column for each statistic; `unit` behind an area")
	compositionKind     = kind("composition", "The share of each class in each zone. Made by `account composition`.", "epoch,zone_id,zone_name,class_code,class_name,area,unit,pct_of_zone,pct_of_classified,rank", "")
	wideCompositionKind = kind("composition", "The same with `--layout wide`: a row for each zone.", "epoch,zone_id,zone_name,unit", classesAcross+", and one with its percentage")
	rankKind            = kind("rank", "Zones by the extent of a class. Made by `account composition --rank`.", "epoch,rank,zone_id,zone_name,class_code,class_name,area,unit,pct_of_zone,pct_of_class", "")
	extentAccountKind   = kind("extent_account", "Extent accounts: a row for each entry. Made by `account extent`.", "zone_id,zone_name,from_epoch,to_epoch,entry,total,unit", classesAcross)
	remainingKind       = kind("remaining", "Land remaining in a category of land use, and land converted to it within a time of transition, by the category that it was converted from, in each year. Ground that some epoch does not map, and ground beyond the rasters, has no category of its own. Made by `account remaining`.", "zone_id,zone_name,year,category,opening,additions,reductions,closing,remaining,converted,from_forest_land,from_cropland,from_grassland,from_wetlands,from_settlements,from_other_land,unit", "")
	flowsKind           = kind("flows", "How much ground each process moved. Made by `account flows`.", "zone_id,zone_name,from_epoch,to_epoch,flow,managed,area,unit,pct_of_mapped,pct_of_changed", "")
	seriesKind          = kind("series", "The extent of each class over the epochs. Made by `account series`.", "zone_id,zone_name,class_code,class_name,epoch,area,unit,since_first,since_previous,pct_since_first,pct_since_previous,pct_per_year_since_first,pct_per_year_since_previous", "")
	accuraciesKind      = kind("accuracy", "How accurate a map is, and how large its classes are on the ground. Made by `account accuracy`.", "class_code,class_name,samples,users_accuracy,users_ci95,producers_accuracy,producers_ci95,mapped,adjusted,adjusted_ci95,unit", "")
	errorMatrixKind     = kind("error_matrix", "The error matrix in proportions of the area. Made by `account accuracy --table matrix`.", "map_code,map_name,samples", "a column for each class on the ground, and `total`")
	checksKind          = kind("checks", "What the checks found. Made with `--checks FILE`, and a sheet of spreadsheets.", "check,outcome,epoch,zone_id,class_code,value,text", "")
	legendsKind         = kind("legend", "The classes of a legend.", "code,name,color,group", "")
	zonesKind           = kind("zones", "The zones of a set.", "zone_id,zone_name,within_id,within_name", "")
	bookAccountsKind    = kind("accounts", "The accounts of a book. Made by `book list`.", "account,kind,zone_set,epochs,legend,postings,rows,author,posted_at", "")
	bookHistoryKind     = kind("history", "The postings of a book. Made by `book history`.", "posting_id,account,kind,from_epoch,epoch,zone_set,legend,rows,author,posted_at,state,state_note,note,program,parameters,content_sha256", "")
	bookDiffKind        = kind("diff", "The numbers that differ between two postings. Made by `book diff`.", "zone_id,zone_name,kind,from_code,to_code,class_name,before,after,difference,unit", "")
)
