package fake

// This file is people: common first names and surnames of several languages, put together by
// chance. What one row says of a person agrees, since all of it is taken from one Person.

import (
	"slices"
	"strings"
	"sync"
	"unicode"

	"golang.org/x/text/unicode/norm"
)

// Person is somebody whom there is not.
type Person struct {
	First, Middle, Last string
	Female              bool
	language            string
	latin               string // first name and surname in Latin letters, where they are in others
}

// Name is the whole name, in the order of its language.
func (p *Person) Name() string {
	if p.language == "ja" {
		return p.Last + " " + p.First
	}
	return p.First + " " + p.Last
}

// namesFacts are a line for each language: first names of women, of men, surnames. Names in
// another script stand behind "=".
const namesFacts = `
en|Alice,Clara,Edith,Florence,Grace,Harriet,Ivy,Joan,Lucy,Mabel,Nora,Phoebe,Rose,Sylvia,Tessa,Winifred,Hazel,Imogen|Arthur,Basil,Cecil,Duncan,Edmund,Felix,Giles,Hugh,Jasper,Kenneth,Leonard,Miles,Neville,Oscar,Percy,Rupert,Silas,Walter|Ashdown,Barlow,Carrow,Denholm,Eastwick,Fairley,Garland,Hartley,Inskip,Kellaway,Lockwood,Marlow,Norwood,Oakes,Penrose,Quill,Radley,Selby,Thornbury,Underhill,Varley,Whitlock,Yardley,Bramwell
de|Anneliese,Birgit,Dörte,Elke,Frieda,Gisela,Heike,Ilse,Jutta,Käthe,Lieselotte,Margarete,Nele,Renate,Sabine,Ute,Wiebke,Änne|Arno,Bernd,Detlef,Eckhard,Friedhelm,Götz,Holger,Jörg,Konrad,Lothar,Malte,Norbert,Ottmar,Rüdiger,Sönke,Thilo,Uwe,Volker|Ahrens,Böttcher,Claußen,Dörfler,Ehlers,Färber,Göbel,Hübner,Jäger,Köhler,Lübbers,Möller,Nägele,Oelrichs,Pöschel,Rößler,Schäfer,Tietjen,Uhlig,Vogt,Wächter,Zöllner,Krüger,Löwe
fr|Agnès,Béatrice,Cécile,Delphine,Élodie,Françoise,Geneviève,Hélène,Irène,Jeanne,Léonie,Mathilde,Noémie,Odile,Pénélope,Rosalie,Sylvie,Thérèse|André,Benoît,Clément,Désiré,Étienne,Frédéric,Gérard,Hugues,Jérôme,Lucien,Mathieu,Noël,Octave,Pascal,Rémi,Sébastien,Théo,Yves|Aubert,Béranger,Chênevert,Delacour,Évrard,Fournel,Guérin,Hébrard,Jaubert,Lefèvre,Marchand,Noiret,Ollivier,Pélissier,Renaud,Sénéchal,Tisserand,Vasseur,Bréchet,Cordier,Dubreuil,Ferrand,Girault,Lemoine
es|Ángela,Beatriz,Carmen,Dolores,Elvira,Fátima,Gloria,Inés,Jimena,Lucía,Marisol,Nuria,Pilar,Rocío,Soledad,Teresa,Úrsula,Ximena|Álvaro,Benito,César,Darío,Emilio,Félix,Gonzalo,Héctor,Íñigo,Joaquín,Lázaro,Mateo,Nicolás,Óscar,Ramón,Sergio,Tomás,Víctor|Acuña,Bermúdez,Cifuentes,Durán,Espinosa,Fuentes,Galván,Herrera,Ibáñez,Jurado,Lozano,Márquez,Núñez,Olmedo,Peñalver,Quintero,Ríos,Salcedo,Trujillo,Urrutia,Valdés,Yáñez,Zamora,Cordero
it|Ada,Bianca,Chiara,Donatella,Elisa,Fiorella,Giulia,Ilaria,Lucia,Marta,Noemi,Ornella,Paola,Rita,Serena,Teresa,Valeria,Viola|Aldo,Bruno,Carlo,Dario,Enzo,Fabio,Gino,Ivo,Lorenzo,Matteo,Niccolò,Oreste,Pietro,Renzo,Sandro,Tito,Ugo,Vasco|Albani,Bellini,Cattaneo,Donati,Esposti,Fabbri,Gallo,Locatelli,Marchetti,Neri,Orlandi,Pellegrini,Quaranta,Ricci,Serafini,Tosi,Ughi,Verdi,Zanetti,Bruni,Colombo,Ferri,Grassi,Monti
pt|Amália,Benedita,Catarina,Dulce,Estefânia,Filomena,Graça,Inês,Júlia,Leonor,Madalena,Natércia,Odete,Patrícia,Rosário,Sílvia,Teresa,Vitória|Afonso,Bernardo,Caetano,Duarte,Estêvão,Fernão,Gaspar,Henrique,Inácio,João,Leandro,Martim,Nuno,Otávio,Patrício,Rúben,Simão,Tomé|Almeida,Baptista,Conceição,Damásio,Esteves,Falcão,Gonçalves,Henriques,Jordão,Lourenço,Magalhães,Negrão,Outeiro,Peixoto,Queirós,Rebelo,Simões,Tavares,Urbano,Vasconcelos,Abrantes,Brandão,Calheiros,Frazão
nl|Aafke,Beatrijs,Carlijn,Doortje,Elsbeth,Femke,Geertje,Hanneke,Ilse,Jantien,Klaartje,Liesbeth,Maaike,Noor,Renske,Saskia,Truus,Willemijn|Arjen,Bas,Cornelis,Diederik,Evert,Floris,Gijs,Hendrik,Joost,Klaas,Lieven,Maarten,Niek,Pieter,Ruben,Sjoerd,Teun,Wouter|Aalbers,Bakker,Coolen,Dekker,Elzinga,Fokkema,Geerts,Hoekstra,Jansma,Kuiper,Lammers,Mulder,Nijland,Oosting,Postma,Rietveld,Schouten,Terpstra,Veenstra,Wiersma,Zwart,Brouwer,Dijkema,Hofman
pl|Agnieszka,Bożena,Celina,Dorota,Elżbieta,Felicja,Grażyna,Halina,Irena,Jadwiga,Katarzyna,Łucja,Małgorzata,Natalia,Róża,Stanisława,Urszula,Zofia|Andrzej,Bartłomiej,Czesław,Dariusz,Eryk,Franciszek,Grzegorz,Henryk,Ireneusz,Jarosław,Krzysztof,Łukasz,Mieczysław,Paweł,Ryszard,Stanisław,Tadeusz,Zbigniew|Baran,Cieślak,Dudek,Figiel,Głąb,Hajduk,Jaworek,Kubiak,Lis,Mazurek,Nowak,Olszak,Pietrzak,Rogala,Stępień,Szulc,Tkacz,Urban,Walczak,Zając,Wójcik,Żak,Krawczyk,Piątek
sv|Agneta,Birgitta,Cecilia,Dagny,Elsa,Frida,Gunilla,Hillevi,Ingrid,Kerstin,Linnéa,Märta,Ottilia,Ragnhild,Sigrid,Tove,Ulla,Åsa|Anders,Björn,Christer,Erik,Folke,Göran,Håkan,Ivar,Jörgen,Lennart,Mårten,Nils,Olof,Per,Rolf,Sören,Torsten,Östen|Ahlgren,Bergström,Dahlberg,Ekström,Forsberg,Grönlund,Hägglund,Isaksson,Kjellgren,Lindqvist,Månsson,Nyström,Öberg,Palmgren,Rosén,Sjöström,Thörnqvist,Wahlström,Ågren,Åkerman,Björklund,Engström,Hellgren,Sandström
no|Astrid,Berit,Gro,Hege,Ingeborg,Kari,Liv,Marit,Ragna,Solveig,Tone,Åse|Arne,Bjarne,Eirik,Geir,Håkon,Knut,Leif,Magnus,Odd,Sverre,Trygve,Øystein|Aasen,Bakke,Dahl,Eikeland,Fjeld,Haugen,Kvamme,Lien,Moen,Nygård,Rønning,Strand,Sæther,Tveit,Ødegård,Ålander
da|Anne,Bodil,Dorthe,Else,Gerda,Hanne,Inger,Kirsten,Lis,Mette,Rikke,Ulla|Anker,Bent,Ejnar,Frode,Gunnar,Holger,Jørgen,Kaj,Mogens,Niels,Søren,Åge|Bjerre,Dalgaard,Fogh,Gram,Højgaard,Juhl,Kjær,Lund,Mørk,Nørgaard,Poulsen,Riis,Skov,Toft,Vestergaard,Østergaard
fi|Aino,Eeva,Hilkka,Inkeri,Kaisa,Liisa,Marjatta,Päivi,Raija,Sirkka,Tuula,Aune|Antti,Eino,Heikki,Ilmari,Jukka,Kalevi,Lauri,Matti,Pentti,Risto,Tapio,Väinö|Aalto,Hakala,Heikkinen,Järvelä,Kallio,Koskela,Lehtonen,Mäkelä,Niemi,Rantala,Salo,Toivola,Uotila,Virta,Ylönen,Ahola
ja|Akiko=明子,Emi=恵美,Haruka=春香,Kaori=香,Mio=澪,Naoko=直子,Sakura=桜,Yuki=雪|Daichi=大地,Haruto=陽斗,Kenji=健司,Makoto=誠,Ren=蓮,Sota=颯太,Takumi=匠,Yuta=悠太|Aoki=青木,Fujita=藤田,Hayashi=林,Ishikawa=石川,Kimura=木村,Matsuda=松田,Nakano=中野,Ogawa=小川,Sakai=酒井,Tanaka=田中,Ueda=上田,Yamamoto=山本
ar|Amal=أمل,Dalia=داليا,Huda=هدى,Laila=ليلى,Mona=منى,Noor=نور,Rania=رانيا,Salma=سلمى|Adel=عادل,Bassam=بسام,Fares=فارس,Hani=هاني,Karim=كريم,Nabil=نبيل,Sami=سامي,Tarek=طارق|Abbas=عباس,Darwish=درويش,Fahmy=فهمي,Haddad=حداد,Khoury=خوري,Mansour=منصور,Nasser=ناصر,Qasim=قاسم,Rashid=راشد,Salem=سالم,Yousef=يوسف,Zaki=زكي
`

type naming struct{ women, men, last []string }

var namings = sync.OnceValue(func() map[string]naming {
	out := map[string]naming{}
	for line := range strings.Lines(strings.TrimSpace(namesFacts)) {
		f := strings.Split(strings.TrimSpace(line), "|")
		out[f[0]] = naming{strings.Split(f[1], ","), strings.Split(f[2], ","), strings.Split(f[3], ",")}
	}
	return out
})

// latinNames are the languages of people of whom nothing is said.
var latinNames = strings.Fields("en en de fr es it pt nl pl sv")

// NewPerson makes up a person whose names are of a locale; without one, of any language in
// Latin letters. own writes them in the script of their language.
func NewPerson(r *Random, locale string, own bool) *Person {
	language, _, _ := strings.Cut(locale, "-")
	if language == "" {
		language = r.Of(latinNames)
	}
	n, ok := namings()[language]
	if !ok {
		n = namings()["en"]
	}
	script := own && scripted(language)
	p := &Person{Female: r.Below(2) == 0, language: language}
	list := n.men
	if p.Female {
		list = n.women
	}
	first, last := r.Of(list), r.Of(n.last)
	p.First, p.Middle, p.Last = written(first, script), written(r.Of(list), script), written(last, script)
	if script {
		p.latin = written(first, false) + " " + written(last, false)
	}
	return p
}

// person is that of the row, or another.
func (w *Want) person() *Person {
	if w.Person == nil {
		w.Person = NewPerson(w.Random, w.Locale, true)
	}
	return w.Person
}

// PersonKinds are the generators whose texts belong to one person.
var PersonKinds = []string{"name", "first_name", "middle_name", "last_name", "email", "username", "gender"}

var (
	firstNames = []string{"first_name", "given_name", "forename", "firstname"}
	lastNames  = []string{"last_name", "surname", "family_name", "lastname"}
	fullNames  = []string{"full_name", "fullname", "display_name", "person_name", "contact_name", "name"}
	userNames  = []string{"username", "user_name", "login", "handle"}
)

// fullName is the row's first name and surname, where it has them, else the person's.
func fullName(w *Want) string {
	first, last := w.firstOf(firstNames), w.firstOf(lastNames)
	if first != "" && last != "" {
		return first + " " + last
	}
	p := *w.person()
	if first != "" {
		p.First = first
	}
	if last != "" {
		p.Last = last
	}
	return p.Name()
}

// firstOf is the first of several fields of the row that there is.
func (w *Want) firstOf(fields []string) string {
	for _, f := range fields {
		if s := w.row(f); s != "" {
			return s
		}
	}
	return ""
}

func email(w *Want) string {
	d := domain(w.Random)
	name := plain(w.firstOf(userNames), '.')
	if name == "" {
		name = mailName(w)
	}
	if w.Length > 0 { // the name rather than the domain is cut
		name = strings.Trim(Cut(name, max(1, w.Length-len(d)-1)), ".")
	}
	return name + "@" + d
}

// mailName is what stands before the @ of a person's mail.
func mailName(w *Want) string {
	name := strings.TrimSpace(w.firstOf(firstNames) + " " + w.firstOf(lastNames))
	if name == "" {
		name = w.firstOf(fullNames)
	}
	if name = plain(name, '.'); name != "" {
		return name
	}
	p := w.person()
	if p.latin != "" {
		return plain(p.latin, '.')
	}
	return plain(p.First+" "+p.Last, '.')
}

// plain keeps the letters a to z and digits of a text, in lower case and without what stands
// above or below them; one sep stands for whatever was between them.
func plain(s string, sep byte) string {
	var b strings.Builder
	gap := false
	for _, r := range norm.NFD.String(strings.ToLower(s)) {
		letters, ok := spelled[r]
		switch {
		case r >= 'a' && r <= 'z' || r >= '0' && r <= '9':
			letters = string(r)
		case ok, r == '\'', unicode.Is(unicode.Mn, r):
		default:
			gap = true
			continue
		}
		if letters != "" && gap && b.Len() > 0 {
			b.WriteByte(sep)
		}
		if letters != "" {
			gap = false
		}
		b.WriteString(letters)
	}
	return b.String()
}

// spelled are letters that are no others with a mark.
var spelled = map[rune]string{
	'ß': "ss",
	'ł': "l",
	'ø': "o",
	'æ': "ae",
	'œ': "oe",
	'đ': "d",
	'ð': "d",
	'þ': "th",
	'ı': "i",
}

// gendered is a word for the person's gender out of a list, as a choice has them; empty: none
// of them is.
func (p *Person) Gendered(list []string) string {
	words := []string{"male", "m", "man", "masculine", "mr", "herr", "mr."}
	if p.Female {
		words = []string{"female", "f", "woman", "feminine", "ms", "mrs", "frau", "ms.", "mrs."}
	}
	i := slices.IndexFunc(list, func(s string) bool { return slices.Contains(words, strings.ToLower(s)) })
	if i < 0 {
		return ""
	}
	return list[i]
}
