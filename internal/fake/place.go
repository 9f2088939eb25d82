package fake

// This file is places: countries with what is true of them, a few of their regions with
// where these lie, and towns that are nowhere. What one row says of a place agrees, since all
// of it is taken from one Place: the postcode begins as those of its region do, its
// coordinates lie there, and its currency and time zone are the country's.

import (
	"slices"
	"strconv"
	"strings"
	"sync"

	"github.com/brianvoe/gofakeit/v7/data"
)

// Place is a town that is nowhere, in a region that there is.
type Place struct {
	Town, Region   string
	Country, Code  string // Italy, IT
	Currency       string // EUR
	Language, Zone string // it, Europe/Rome
	Postcode       string
	Latitude       float64
	Longitude      float64
	country        int // its place in the table; -1: nothing but its name and code is known
}

// Locale is the language with the country: it-IT.
func (p *Place) Locale() string { return p.Language + "-" + p.Code }

// Of is what the place says to a question, such as a generator's name: its town for "city".
// Empty: it says nothing to that.
func (p *Place) Of(generator string) string {
	switch generator {
	case "city":
		return p.Town
	case "region":
		return p.Region
	case "country":
		return p.Country
	case "country_code":
		return p.Code
	case "postcode":
		return p.Postcode
	case "currency":
		return p.Currency
	case "language":
		return p.Language
	case "locale":
		return p.Locale()
	case "timezone":
		return p.Zone
	}
	return ""
}

// Near is a point within a few kilometres of the place, in degrees.
func (p *Place) Near(r *Random) (latitude, longitude float64) {
	return p.Latitude + float64(r.Between(-200, 200))/10000, p.Longitude + float64(r.Between(-200, 200))/10000
}

// PlaceKinds are the generators whose texts belong to one place, from the most to the least
// that they tell of it.
var PlaceKinds = []string{
	"city", "postcode", "region", "country_code", "country", "locale", "timezone", "currency", "language", "latitude",
	"longitude", "street", "street_name", "place",
}

// land is a country of the table.
type land struct {
	name, code, currency, language, zone string
	form                                 string // of a postcode: ^ is its region's beginning, # a digit, A a letter
	begin, end                           []string
	regions                              []area
}

// area is a region of a country.
type area struct {
	name                string
	latitude, longitude float64
	post, zone          string
}

// countryFacts are a line each: code, name, currency, language, time zone, form of a
// postcode; its regions with latitude, longitude, what their postcodes begin with, and a
// time zone that is not the country's; the pieces of its towns' names. Names in another
// script stand behind "=".
const countryFacts = `
GB|United Kingdom|GBP|en|Europe/London|^# #AA|Norfolk,52.67,0.95,NR;Cumbria,54.5,-2.9,CA;Devon,50.75,-3.8,EX;Kent,51.2,0.7,CT;Powys,52.3,-3.4,LD;Aberdeenshire,57.2,-2.8,AB|Thistle,Bramble,Fern,Heather,Alder,Rowan,Clover,Sorrel,Tansy,Burdock,Hazel,Teasel|ford,bury,combe,wick,mere,stead,thorpe,leigh
IE|Ireland|EUR|en|Europe/Dublin|^ A#A#|Cork,51.95,-8.6,P12;Galway,53.35,-8.8,H54;Kerry,52.1,-9.6,V93;Mayo,53.9,-9.3,F26;Wexford,52.45,-6.6,Y21|Bally,Kil,Dun,Rath,Clon,Knock,Drum|fraoch,raithin,drish,cuilin,dairin,luachra,airne,bileog
DE|Germany|EUR|de|Europe/Berlin|^###|Bayern,48.9,11.4,84;Niedersachsen,52.7,9.2,31;Sachsen,51.0,13.4,01;Hessen,50.6,9.0,35;Schleswig-Holstein,54.2,9.7,24;Brandenburg,52.4,13.0,14|Wolken,Hummel,Farn,Flieder,Amsel,Distel,Mohn,Nebel,Kiesel,Drossel,Schlehen,Lärchen|hausen,furt,brück,wiese,winkel,kirch,hain,grund
AT|Austria|EUR|de|Europe/Vienna|^###|Tirol,47.2,11.3,6;Steiermark,47.3,15.0,8;Kärnten,46.7,13.9,9;Salzburg,47.4,13.2,5;Burgenland,47.5,16.4,7|Enzian,Latschen,Preisel,Holunder,Arnika,Farren,Germer,Schlüssel|dorf,ach,eck,markt,egg,zell
CH|Switzerland|CHF|de|Europe/Zurich|^###|Bern,46.8,7.6,3;Luzern,47.05,8.1,6;Graubünden,46.7,9.6,7;Aargau,47.4,8.15,5;Thurgau,47.58,9.1,8|Alpros,Silberdist,Arven,Minz,Salbei,Bärlauch,Thymi,Seggen|ikon,wil,matt,ingen,büel,fluh
FR|France|EUR|fr|Europe/Paris|^###|Bretagne,48.2,-2.9,22;Occitanie,43.9,2.1,81;Normandie,49.1,0.1,14;Grand Est,48.7,5.6,55;Nouvelle-Aquitaine,45.3,0.4,24;Auvergne-Rhône-Alpes,45.5,4.5,42|Val,Mont,Font,Clair,Roche,Bois,Pré,Mare|fougère,mousse,bruyère,genêt,sorbier,églantine,pervenche,mélisse
BE|Belgium|EUR|nl|Europe/Brussels|^###|Limburg,50.98,5.5,3;Oost-Vlaanderen,51.0,3.8,9;West-Vlaanderen,51.0,3.1,8;Antwerpen,51.2,4.7,2|Brem,Gagel,Vlier,Meidoorn,Sleedoorn,Zegge,Lisdodde,Sporken|gem,zele,beke,kerke,wijck,houte
ES|Spain|EUR|es|Europe/Madrid|^###|Andalucía,37.4,-4.8,14;Galicia,42.8,-8.0,15;Aragón,41.5,-0.8,50;Castilla y León,41.7,-4.8,47;Extremadura,39.2,-6.1,10;Asturias,43.3,-6.0,33|Villa,Monte,Fuente,Campo,Torre,Valle|lavanda,tomillo,retama,genista,espliego,madroño,brezo,mejorana
IT|Italy|EUR|it|Europe/Rome|^###|Toscana,43.4,11.1,53;Piemonte,45.0,7.9,12;Puglia,41.0,16.6,70;Umbria,42.9,12.5,06;Veneto,45.5,11.9,35;Sicilia,37.6,14.1,93|Monte,Villa,Borgo,Rocca,Castel,Fonte,Valle,Campo|ginestra,lavanda,corbezzolo,melissa,ginepro,mirtillo,felce,genziana
PT|Portugal|EUR|pt|Europe/Lisbon|^##-###|Alentejo,38.3,-7.9,70;Algarve,37.2,-8.1,80;Norte,41.4,-8.0,47;Centro,40.2,-8.2,30;Lisboa,38.9,-9.1,25|Monte,Vila,Ribeira,Fonte,Casal,Vale,Campo| da Giesta, do Medronho, da Urze, da Esteva, do Tojo, da Murta, do Zimbro
NL|Netherlands|EUR|nl|Europe/Amsterdam|^## AA|Gelderland,52.05,5.9,68;Friesland,53.1,5.8,84;Zeeland,51.5,3.9,43;Drenthe,52.85,6.6,94;Noord-Holland,52.6,4.9,16|Linden,Berken,Distel,Klaver,Vlinder,Varen,Wilgen,Eikel|dam,wijk,veen,dijk,rade,hoven,meer,burg
PL|Poland|PLN|pl|Europe/Warsaw|^-###|Mazowieckie,52.3,21.0,05;Małopolskie,49.8,20.3,32;Pomorskie,54.2,18.0,83;Podlaskie,53.2,22.9,16;Dolnośląskie,51.1,16.4,55|Wrzoso,Paproto,Jałowco,Jarzębo,Szałwio,Mięto,Konwalio,Łubino,Żurawino|wice,wka,wiec,wa Góra,wa Dolina
SE|Sweden|SEK|sv|Europe/Stockholm|^# ##|Skåne,55.9,13.6,24;Dalarna,60.8,14.6,78;Kronoberg,56.8,14.5,36;Västra Götaland,58.2,12.8,52;Uppsala,60.0,17.7,74|Ljung,Lav,Moss,Hallon,Blåbärs,Tistel,Ormbunks,Klöver|torp,köping,holm,vik,näs,lunda,åsen
NO|Norway|NOK|no|Europe/Oslo|^##|Innlandet,61.3,10.3,26;Vestland,60.8,6.0,57;Trøndelag,63.6,11.0,76;Rogaland,59.0,6.2,43;Nordland,66.8,14.5,81|Lyng,Mose,Bregne,Blåbær,Rogne,Tistel,Kløver,Einer|dal,fjord,heim,stad,sund,neset
DK|Denmark|DKK|da|Europe/Copenhagen|^##|Sjælland,55.4,11.8,42;Syddanmark,55.3,9.5,66;Midtjylland,56.2,9.2,88;Nordjylland,57.1,9.9,93|Lyng,Bregne,Hylde,Tidsel,Rønne,Birke,Kællinge,Padde|lev,rup,borg,ager,strup,bølle
FI|Finland|EUR|fi|Europe/Helsinki|^###|Uusimaa,60.3,24.6,05;Pirkanmaa,61.6,23.8,35;Kainuu,64.3,28.4,88;Pohjois-Karjala,62.8,30.0,82;Varsinais-Suomi,60.6,22.4,23|Kanerva,Sammal,Saniais,Mustikka,Kataja,Apila,Vadelma,Jäkälä|koski,niemi,saari,lahti,kylä,ranta
US|United States of America|USD|en|America/New_York|^###|Vermont,44.1,-72.7,05;Oregon,44.1,-120.9,97,America/Los_Angeles;Colorado,39.0,-105.5,81,America/Denver;Minnesota,45.9,-94.6,56,America/Chicago;Georgia,32.9,-83.4,31|Juniper,Sumac,Yarrow,Larkspur,Aster,Buckwheat,Sagebrush,Chokecherry| Falls, Creek, Springs, Hollow,ville, Junction, Grove, Landing
CA|Canada|CAD|en|America/Toronto|^A #A#|British Columbia,53.5,-124.0,V2,America/Vancouver;Ontario,46.0,-81.5,P3;Manitoba,50.9,-98.5,R2,America/Winnipeg;Nova Scotia,45.0,-63.5,B2,America/Halifax|Trillium,Cloudberry,Bunchberry,Lichen,Fireweed,Spruce,Cranberry,Bearberry| Harbour, Portage, Bay, Lake, Crossing, Point
AU|Australia|AUD|en|Australia/Sydney|^##|Tasmania,-42.2,146.6,72,Australia/Hobart;Victoria,-36.9,144.6,34,Australia/Melbourne;Western Australia,-31.5,117.0,63,Australia/Perth;Queensland,-25.5,151.0,45,Australia/Brisbane|Banksia,Wattle,Grevillea,Bottlebrush,Saltbush,Waratah,Paperbark,Spinifex| Plains, Flat,dale, Ridge, Downs, Gully
NZ|New Zealand|NZD|en|Pacific/Auckland|^##|Otago,-45.3,169.8,93;Waikato,-38.0,175.5,33;Canterbury,-43.5,171.8,75;Taranaki,-39.3,174.2,43|Harakeke,Kowhai,Manuka,Ponga,Mamaku,Toetoe,Hebe,Koromiko| Beach, Vale,ton,burn, Terrace, Hill
BR|Brazil|BRL|pt|America/Sao_Paulo|^###-###|Minas Gerais,-18.9,-44.8,35;Paraná,-24.7,-51.6,84;Bahia,-12.6,-41.5,45,America/Bahia;Mato Grosso,-13.0,-55.9,78,America/Cuiaba|Vila ,Serra ,Porto ,Várzea ,Lagoa |Ipê,Jacarandá,Bromélia,Samambaia,Buriti,Pitanga,Araçá,Guapuruvu
MX|Mexico|MXN|es|America/Mexico_City|^###|Oaxaca,17.0,-96.5,70;Jalisco,20.5,-103.6,46;Veracruz,19.3,-96.6,91;Yucatán,20.8,-89.0,97,America/Merida|Villa ,Valle ,Puerto ,Arroyo ,Cerro |Jacaranda,Bugambilia,Nopal,Mezquite,Copal,Guayacán,Zapote,Capulín
JP|Japan|JPY|ja|Asia/Tokyo|^#-####|Nagano=長野県,36.2,138.0,38;Hokkaido=北海道,43.4,142.6,07;Kumamoto=熊本県,32.7,130.8,86;Shiga=滋賀県,35.2,136.1,52|Koke=苔,Hagi=萩,Fuki=蕗,Kuzu=葛,Yomogi=蓬,Tsubaki=椿,Kaede=楓,Kiri=霧|no=野市,sawa=沢市,hara=原市,hama=浜市,saki=崎市,se=瀬市
EG|Egypt|EGP|ar|Africa/Cairo|^###|Faiyum=الفيوم,29.35,30.6,63;Minya=المنيا,28.1,30.6,61;Aswan=أسوان,24.2,32.8,81;Beheira=البحيرة,30.6,30.2,22|Ain =عين ,Bir =بئر ,Tell =تل ,Kafr =كفر |Yasmin=الياسمين,Khuzama=الخزامى,Rihan=الريحان,Lablab=اللبلاب,Kharrub=الخروب,Sindyan=السنديان
`

// lands are the countries of the table.
var lands = sync.OnceValue(func() []land {
	var out []land
	for line := range strings.Lines(strings.TrimSpace(countryFacts)) {
		f := strings.Split(strings.TrimSuffix(line, "\n"), "|")
		l := land{
			code:     f[0],
			name:     f[1],
			currency: f[2],
			language: f[3],
			zone:     f[4],
			form:     f[5],
			begin:    strings.Split(f[7], ","),
			end:      strings.Split(f[8], ","),
		}
		for _, r := range strings.Split(f[6], ";") {
			f := strings.Split(r, ",")
			a := area{name: f[0], post: f[3], zone: l.zone}
			a.latitude, _ = strconv.ParseFloat(f[1], 64)
			a.longitude, _ = strconv.ParseFloat(f[2], 64)
			if len(f) > 4 {
				a.zone = f[4]
			}
			l.regions = append(l.regions, a)
		}
		out = append(out, l)
	}
	return out
})

// Places are all places, those of one country behind each other. script gives names in the
// writing of their language, where that is another one.
func Places(script bool) []*Place {
	if script {
		return placesInScript()
	}
	return placesInLatin()
}

var (
	placesInLatin  = sync.OnceValue(func() []*Place { return makePlaces(false) })
	placesInScript = sync.OnceValue(func() []*Place { return makePlaces(true) })
)

func makePlaces(script bool) []*Place {
	var out []*Place
	for i, l := range lands() {
		for _, begin := range l.begin {
			for _, end := range l.end {
				latin := written(begin, false) + written(end, false)
				r := NewRandom(Hash(l.code), Hash(latin))
				a := l.regions[r.Below(uint64(len(l.regions)))]
				p := &Place{
					Town:     written(begin, script) + written(end, script),
					Region:   written(a.name, script),
					Country:  l.name,
					Code:     l.code,
					Currency: l.currency,
					Language: l.language,
					Zone:     a.zone,
					country:  i,
				}
				p.Postcode = strings.Replace(filledIn(&r, l.form), "^", a.post, 1)
				p.Latitude = a.latitude + float64(r.Between(-3000, 3000))/10000
				p.Longitude = a.longitude + float64(r.Between(-3000, 3000))/10000
				out = append(out, p)
			}
		}
	}
	return out
}

// written is a name in the Latin script, or its own.
func written(name string, script bool) string {
	latin, own, ok := strings.Cut(name, "=")
	if ok && script {
		return own
	}
	return latin
}

// filledIn fills a form: # is a digit, A a letter that all post offices use.
func filledIn(r *Random, form string) string {
	const letters = "ABEGHJLNPRSTWXYZ"
	out := []byte(form)
	for i, b := range out {
		switch b {
		case '#':
			out[i] = byte('0' + r.Below(10))
		case 'A':
			out[i] = letters[r.Below(uint64(len(letters)))]
		}
	}
	return string(out)
}

// Countries are all countries that there are, as places of which nothing else is known.
var Countries = sync.OnceValue(func() []*Place {
	var out []*Place
	for i, name := range data.Address["country"] {
		code := data.Address["country_abr"][i]
		p := &Place{Country: name, Code: code, country: -1}
		for _, l := range lands() {
			if l.code == code {
				p.Country, p.Currency, p.Language, p.Zone = l.name, l.currency, l.language, l.zone
			}
		}
		out = append(out, p)
	}
	return out
})

// Says tells whether the place is the one that a text is about, taken as what a generator
// makes; case does not count.
func (p *Place) Says(generator, text string) bool {
	return strings.EqualFold(p.Of(generator), text) ||
		generator == "locale" && strings.EqualFold(p.Of(generator), strings.ReplaceAll(text, "_", "-"))
}

// Languages are those whose names and places are known.
func Languages() []string {
	var out []string
	for _, l := range lands() {
		if !slices.Contains(out, l.language) {
			out = append(out, l.language)
		}
	}
	slices.Sort(out)
	return out
}

// IsLocale tells whether names and places of a locale are known.
func IsLocale(locale string) bool {
	language, code, _ := strings.Cut(locale, "-")
	return slices.ContainsFunc(lands(), func(l land) bool {
		return l.language == language && (code == "" || strings.EqualFold(l.code, code))
	})
}

// scripted tells whether a locale is written in another script.
func scripted(locale string) bool {
	language, _, _ := strings.Cut(locale, "-")
	return language == "ja" || language == "ar"
}

// Group is places among which one is picked.
type Group struct {
	List   []*Place
	starts []int // of the countries in it
}

// NewGroup makes a group of places; those of one country stand behind each other.
func NewGroup(list []*Place) *Group {
	g := &Group{List: list}
	for i, p := range list {
		if i == 0 || p.country != list[i-1].country || p.country < 0 {
			g.starts = append(g.starts, i)
		}
	}
	return g
}

// Pick is one of them; each of their countries is met as often.
func (g *Group) Pick(r *Random) *Place {
	at := int(r.Below(uint64(len(g.starts))))
	end := len(g.List)
	if at+1 < len(g.starts) {
		end = g.starts[at+1]
	}
	return g.List[g.starts[at]+int(r.Below(uint64(end-g.starts[at])))]
}

// Around are the places that belong to a locale: those of its language, or of its country
// where it names one, as pt-BR does; without one those of all Latin scripts. Where there are
// none, they are those of all.
func Around(locale string) *Group {
	if g, ok := groups.Load(locale); ok {
		return g.(*Group)
	}
	language, code, _ := strings.Cut(locale, "-")
	var list []*Place
	for _, p := range Places(scripted(language)) {
		if locale == "" && !scripted(p.Language) ||
			p.Language == language && (code == "" || strings.EqualFold(p.Code, code)) {
			list = append(list, p)
		}
	}
	if len(list) == 0 {
		return Around("")
	}
	g, _ := groups.LoadOrStore(locale, NewGroup(list))
	return g.(*Group)
}

var groups sync.Map // by locale

// streetsOf are names of streets by language.
var streetsOf = sync.OnceValue(func() map[string][]string {
	return map[string][]string{
		"en": {
			"North Alley", "Mill Lane", "Orchard Road", "Fern Street", "Station Road", "Chapel Hill", "Quarry Lane",
			"Harbour Street", "Willow Walk", "Bramble Close", "Meadow Way", "Bridge Street",
		},
		"de": {
			"Lindenweg", "Farnstraße", "Mühlgasse", "Gartenstraße", "Bachstraße", "Kirchweg", "Amselweg", "Obere Gasse",
			"Wiesengrund", "Kastanienallee", "Steinweg", "Brunnenplatz",
		},
		"fr": {
			"rue des Tilleuls", "rue du Moulin", "chemin des Fougères", "place de la Fontaine",
			"avenue des Marronniers", "impasse du Verger", "rue de la Gare", "quai des Saules", "rue Haute",
			"allée des Genêts",
		},
		"es": {
			"Calle del Tomillo", "Calle Mayor", "Camino de la Fuente", "Avenida de los Olmos", "Plaza del Molino",
			"Calle de la Huerta", "Paseo de los Tilos", "Calle Nueva", "Travesía del Pozo", "Calle de las Jaras",
		},
		"it": {
			"Via dei Tigli", "Via del Mulino", "Piazza della Fontana", "Viale delle Ginestre", "Via dell'Orto",
			"Vicolo Stretto", "Via della Stazione", "Corso degli Olmi", "Via delle Felci", "Strada del Bosco",
		},
		"pt": {
			"Rua da Urze", "Rua do Moinho", "Travessa da Fonte", "Avenida das Tílias", "Largo do Poço", "Rua Nova",
			"Rua das Hortas", "Calçada da Ribeira", "Rua do Alecrim", "Estrada do Monte",
		},
		"nl": {
			"Varenstraat", "Molenweg", "Lindelaan", "Dorpsstraat", "Achterdijk", "Wilgenpad", "Heideweg", "Kerkplein",
			"Oude Gracht", "Stationsweg",
		},
		"pl": {
			"ul. Wrzosowa", "ul. Młyńska", "ul. Lipowa", "ul. Ogrodowa", "ul. Polna", "ul. Kasztanowa",
			"ul. Nadrzeczna", "ul. Krótka", "al. Brzozowa", "ul. Leśna",
		},
		"sv": {
			"Ljungvägen", "Kvarngatan", "Lindallén", "Björkstigen", "Storgatan", "Hamngatan", "Trädgårdsgatan",
			"Kyrkvägen", "Ormbunksvägen", "Skogsgatan",
		},
		"no": {
			"Lyngveien", "Møllegata", "Lindealléen", "Bjørkestien", "Storgata", "Havnegata", "Hageveien", "Kirkeveien",
			"Bregneveien", "Skogveien",
		},
		"da": {
			"Lyngvej", "Møllegade", "Lindealle", "Birkestien", "Storegade", "Havnegade", "Havevej", "Kirkevej",
			"Bregnevej", "Skovvej",
		},
		"fi": {
			"Kanervatie", "Myllykatu", "Lehmuskuja", "Koivupolku", "Kauppakatu", "Satamatie", "Puutarhakatu",
			"Kirkkotie", "Saniaistie", "Metsäkatu",
		},
		"ja": {"Kokenocho=苔野町", "Hagiwaracho=萩原町", "Fukisawacho=蕗沢町", "Tsubakicho=椿町", "Kaededori=楓通り", "Kirizaka=霧坂"},
		"ar": {
			"Yasmin Street=شارع الياسمين", "Rihan Street=شارع الريحان", "Khuzama Street=شارع الخزامى",
			"Fountain Street=شارع النافورة", "Orchard Street=شارع البستان", "Mill Street=شارع الطاحونة",
		},
	}
})

// numberFirst are the languages in which the number of a house stands before the street.
var numberFirst = []string{"en", "fr", "ar"}

// streetName is a street of the place.
func (w *Want) streetName() string {
	p := w.place()
	return written(w.Random.Of(streetsOf()[p.Language]), scripted(w.Locale))
}

// street is an address of the place.
func street(w *Want) string {
	name, language := w.streetName(), w.place().Language
	number := strconv.FormatInt(w.Random.Between(1, 180), 10)
	switch {
	case language == "ja" && scripted(w.Locale):
		return name + number + "-" + strconv.FormatInt(w.Random.Between(1, 20), 10)
	case language == "ja":
		return number + "-" + strconv.FormatInt(w.Random.Between(1, 20), 10) + " " + name
	case slices.Contains(numberFirst, language):
		return number + " " + name
	}
	return name + " " + number
}

// place is that of the row, or one of the want's locale.
func (w *Want) place() *Place {
	if w.Place == nil {
		w.Place = Around(w.Locale).Pick(w.Random)
	}
	return w.Place
}
