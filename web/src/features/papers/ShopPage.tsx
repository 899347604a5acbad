import { useState, type FormEvent } from 'react'
import { useLocation } from 'wouter'

import type { ShopPage as Page } from '../../api/client'
import { usePaces, usePutShopPage, useShopPage } from '../../api/workQueries'
import { Choice } from '../../ui/Choice'
import { Commands, Do } from '../../ui/Commands'
import { Note } from '../../ui/Note'
import { money } from '../../lib/money'
import { T } from '../../words'

/** The shop's own page: who it is, what it charges, on which paper. */
export function ShopPage() {
  const { data } = useShopPage()
  const [, navigate] = useLocation()
  const bench = () => navigate('/')
  return (
    <Commands page="shop" on={{ back: bench, room: () => navigate('/room') }}>
      <main className="h-full overflow-y-auto px-4 py-4 lg:px-7">
        <div className="mb-1 flex flex-wrap items-baseline gap-x-5"><h1 className="text-xl font-bold">{T.shopTitle}</h1><span className="ml-auto flex flex-wrap gap-x-4"><Do of="shop" id="room" /><Do of="shop" id="back" /></span></div>
        <p className="mb-4 text-s text-soft">{T.shopHint}</p>
        {data && <ShopForm key={JSON.stringify(data)} kept={data} />}
        <Paces />
      </main>
    </Commands>
  )
}

interface LineProps {
  label: string
  value: string | number
  onChange: (value: string) => void
  number?: boolean
  width?: string
}

function Line({ label, value, onChange, number = false, width = 'w-full' }: LineProps) {
  return (
    <label className="text-s font-semibold text-soft">
      {label}
      <input type={number ? 'number' : 'text'} step="any" value={value} onChange={(e) => onChange(e.target.value)} className={`mt-1 block rounded border border-line bg-sheet px-3 py-2 text-l font-normal text-ink ${width}`} />
    </label>
  )
}

function ShopForm({ kept }: { kept: Page }) {
  const put = usePutShopPage()
  const [page, setPage] = useState(kept)
  const [address, setAddress] = useState(kept.address.join('\n'))
  const set = (change: Partial<Page>) => setPage({ ...page, ...change })
  const lines = address.split('\n')
  const submit = (event: FormEvent) => {
    event.preventDefault()
    const { may_print: _, ...said } = page
    put.mutate({ ...said, address: lines.map((x) => x.trim()).filter(Boolean) })
  }
  return (
    <form onSubmit={submit} className="grid max-w-[1100px] gap-6 lg:grid-cols-[minmax(0,1fr)_380px]">
      <div className="grid content-start gap-3 sm:grid-cols-2">
        <Line label={T.shopName} value={page.name} onChange={(name) => set({ name })} />
        <Line label={T.shopTechnicians} value={page.technicians.join(' ')} onChange={(text) => set({ technicians: text.split(/[\s,]+/) })} />
        <label className="text-s font-semibold text-soft sm:col-span-2">
          {T.shopAddress}
          <textarea rows={3} value={address} onChange={(e) => setAddress(e.target.value)} className="mt-1 block w-full rounded border border-line bg-sheet px-3 py-2 text-l font-normal text-ink" />
        </label>
        <label className="text-s font-semibold text-soft sm:col-span-2">
          {T.shopOpening}
          <textarea rows={2} maxLength={400} value={page.opening} onChange={(e) => set({ opening: e.target.value })} className="mt-1 block w-full rounded border border-line bg-sheet px-3 py-2 text-l font-normal text-ink" />
        </label>
        <div className="flex flex-wrap gap-3 sm:col-span-2">
          <Line label={T.shopRate} number width="w-32" value={page.bench_hour} onChange={(v) => set({ bench_hour: Number(v) })} />
          <Line label={T.shopCurrency} width="w-24" value={page.currency} onChange={(currency) => set({ currency: currency.toUpperCase().slice(0, 3) })} />
          <Line label={T.shopLocale} width="w-24" value={page.locale} onChange={(locale) => set({ locale })} />
          <Line label={T.shopTax} number width="w-24" value={page.tax} onChange={(v) => set({ tax: Number(v) })} />
          <Line label={T.shopWarranty} number width="w-28" value={page.warranty_days} onChange={(v) => set({ warranty_days: Number(v) })} />
          <Line label={T.shopPrefix} width="w-28" value={page.prefix} onChange={(prefix) => set({ prefix })} />
          <Line label={T.shopBays} number width="w-24" value={page.bays} onChange={(v) => set({ bays: Number(v) })} />
        </div>
        <Choice label={T.shopTaxBy} value={page.tax_by} options={Object.entries(T.taxBy).map(([value, label]) => ({ value, label }))} onValueChange={(tax_by) => set({ tax_by })} />
        <Choice label={T.shopPaper} value={page.paper} options={Object.entries(T.paperSizes).map(([value, label]) => ({ value, label }))} onValueChange={(paper) => set({ paper })} />
        <div className="self-end sm:col-span-2">
          {put.error && <div className="mb-2"><Note title={T.notKept}>{put.error.message}</Note></div>}
          <button type="submit" disabled={put.isPending} className="min-h-12 rounded bg-indigo px-6 text-l font-semibold text-paper disabled:opacity-50">{T.shopKeep}</button>
          {put.isSuccess && <span role="status" className="ml-3 text-m text-pine">{T.shopKept}</span>}
        </div>
      </div>
      <section aria-label={T.shopPreview}>
        <h2 className="mb-1 text-s font-bold text-soft">{T.shopPreview}</h2>
        <div className="printed p-6 ring-1 ring-line">
          <p className="text-l font-bold" dir="auto">{page.name}</p>
          {lines.map((line, index) => <p key={index} dir="auto" className="text-s text-soft">{line}</p>)}
          <p className="mt-4 text-m" dir="auto">{page.opening}</p>
          <p className="mt-4 flex justify-between border-t border-hair pt-2 text-m"><span>{T.anHour}</span><strong>{money(page.bench_hour, page)}</strong></p>
          {page.tax > 0 && <p className="flex justify-between text-m"><span>{page.tax} %</span><span>{money(page.bench_hour * page.tax / 100, page)}</span></p>}
        </div>
      </section>
    </form>
  )
}

/** What moves and steps really take in this shop. */
function Paces() {
  const { data = [] } = usePaces()
  if (data.length === 0) return null
  return (
    <section aria-label={T.paces} className="mt-8 max-w-[1100px]">
      <h2 className="text-l font-bold">{T.paces}</h2>
      <p className="mb-2 text-s text-soft">{T.pacesHint}</p>
      <ul className="grid gap-x-8 sm:grid-cols-2">
        {data.map((pace) => <li key={pace.what} className="flex justify-between gap-3 border-b border-hair py-1 text-m"><span>{pace.what}</span><span className="text-right text-soft">{T.pacesOf(pace.expected, pace.took, pace.times)}</span></li>)}
      </ul>
    </section>
  )
}
