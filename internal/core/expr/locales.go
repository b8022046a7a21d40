package expr

import (
	"github.com/go-playground/locales"
	"github.com/go-playground/locales/ar"
	"github.com/go-playground/locales/bg"
	"github.com/go-playground/locales/bn"
	"github.com/go-playground/locales/ca"
	"github.com/go-playground/locales/cs"
	"github.com/go-playground/locales/cy"
	"github.com/go-playground/locales/da"
	"github.com/go-playground/locales/de"
	"github.com/go-playground/locales/de_AT"
	"github.com/go-playground/locales/de_CH"
	"github.com/go-playground/locales/el"
	"github.com/go-playground/locales/en"
	"github.com/go-playground/locales/en_AU"
	"github.com/go-playground/locales/en_CA"
	"github.com/go-playground/locales/en_GB"
	"github.com/go-playground/locales/en_IE"
	"github.com/go-playground/locales/en_IN"
	"github.com/go-playground/locales/en_NZ"
	"github.com/go-playground/locales/en_ZA"
	"github.com/go-playground/locales/es"
	"github.com/go-playground/locales/es_AR"
	"github.com/go-playground/locales/es_CL"
	"github.com/go-playground/locales/es_CO"
	"github.com/go-playground/locales/es_MX"
	"github.com/go-playground/locales/et"
	"github.com/go-playground/locales/eu"
	"github.com/go-playground/locales/fa"
	"github.com/go-playground/locales/fi"
	"github.com/go-playground/locales/fr"
	"github.com/go-playground/locales/fr_BE"
	"github.com/go-playground/locales/fr_CA"
	"github.com/go-playground/locales/fr_CH"
	"github.com/go-playground/locales/ga"
	"github.com/go-playground/locales/gl"
	"github.com/go-playground/locales/he"
	"github.com/go-playground/locales/hi"
	"github.com/go-playground/locales/hr"
	"github.com/go-playground/locales/hu"
	"github.com/go-playground/locales/id"
	"github.com/go-playground/locales/is"
	"github.com/go-playground/locales/it"
	"github.com/go-playground/locales/it_CH"
	"github.com/go-playground/locales/ja"
	"github.com/go-playground/locales/ko"
	"github.com/go-playground/locales/lt"
	"github.com/go-playground/locales/lv"
	"github.com/go-playground/locales/ms"
	"github.com/go-playground/locales/nb"
	"github.com/go-playground/locales/nl"
	"github.com/go-playground/locales/nl_BE"
	"github.com/go-playground/locales/nn"
	"github.com/go-playground/locales/pl"
	"github.com/go-playground/locales/pt"
	"github.com/go-playground/locales/pt_PT"
	"github.com/go-playground/locales/ro"
	"github.com/go-playground/locales/ru"
	"github.com/go-playground/locales/sk"
	"github.com/go-playground/locales/sl"
	"github.com/go-playground/locales/sq"
	"github.com/go-playground/locales/sr"
	"github.com/go-playground/locales/sv"
	"github.com/go-playground/locales/sw"
	"github.com/go-playground/locales/ta"
	"github.com/go-playground/locales/th"
	"github.com/go-playground/locales/tr"
	"github.com/go-playground/locales/uk"
	"github.com/go-playground/locales/ur"
	"github.com/go-playground/locales/vi"
	"github.com/go-playground/locales/zh"
	"github.com/go-playground/locales/zh_Hant"
)

// translators are the locales that are known, by CLDR.
var translators = map[string]func() locales.Translator{
	"ar":      ar.New,
	"bg":      bg.New,
	"bn":      bn.New,
	"ca":      ca.New,
	"cs":      cs.New,
	"cy":      cy.New,
	"da":      da.New,
	"de":      de.New,
	"de-at":   de_AT.New,
	"de-ch":   de_CH.New,
	"el":      el.New,
	"en":      en.New,
	"en-au":   en_AU.New,
	"en-ca":   en_CA.New,
	"en-gb":   en_GB.New,
	"en-ie":   en_IE.New,
	"en-in":   en_IN.New,
	"en-nz":   en_NZ.New,
	"en-za":   en_ZA.New,
	"es":      es.New,
	"es-ar":   es_AR.New,
	"es-cl":   es_CL.New,
	"es-co":   es_CO.New,
	"es-mx":   es_MX.New,
	"et":      et.New,
	"eu":      eu.New,
	"fa":      fa.New,
	"fi":      fi.New,
	"fr":      fr.New,
	"fr-be":   fr_BE.New,
	"fr-ca":   fr_CA.New,
	"fr-ch":   fr_CH.New,
	"ga":      ga.New,
	"gl":      gl.New,
	"he":      he.New,
	"hi":      hi.New,
	"hr":      hr.New,
	"hu":      hu.New,
	"id":      id.New,
	"is":      is.New,
	"it":      it.New,
	"it-ch":   it_CH.New,
	"ja":      ja.New,
	"ko":      ko.New,
	"lt":      lt.New,
	"lv":      lv.New,
	"ms":      ms.New,
	"nb":      nb.New,
	"nl":      nl.New,
	"nl-be":   nl_BE.New,
	"nn":      nn.New,
	"pl":      pl.New,
	"pt":      pt.New,
	"pt-pt":   pt_PT.New,
	"ro":      ro.New,
	"ru":      ru.New,
	"sk":      sk.New,
	"sl":      sl.New,
	"sq":      sq.New,
	"sr":      sr.New,
	"sv":      sv.New,
	"sw":      sw.New,
	"ta":      ta.New,
	"th":      th.New,
	"tr":      tr.New,
	"uk":      uk.New,
	"ur":      ur.New,
	"vi":      vi.New,
	"zh":      zh.New,
	"zh-hant": zh_Hant.New,
}
