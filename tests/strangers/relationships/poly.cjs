Object.groupBy ||= (xs, f) => { const o = Object.create(null); let i = 0; for (const x of xs) (o[f(x, i++)] ||= []).push(x); return o; };
Map.groupBy ||= (xs, f) => { const o = new Map(); let i = 0; for (const x of xs) { const k = f(x, i++); o.get(k)?.push(x) ?? o.set(k, [x]); } return o; };
