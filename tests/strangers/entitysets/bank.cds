entity bank.Species {
  key ID     : Integer;
  name       : String(60) not null;
  family     : String(40) not null;
  protected  : Boolean default false;
  accessions : Association to many bank.Accessions on accessions.species = $self;
}

entity bank.Accessions {
  key ID    : Integer;
  number    : String(20) not null @mandatory;
  seeds     : Integer not null @assert.range: [0, 1000000];
  collected : Date;
  note      : String(200);
  viability : Decimal(5, 2);
  species   : Association to bank.Species not null;
}

@title: 'Seed bank'
service BankService @(path: '/bank') {
  entity Species as projection on bank.Species;
  entity Accessions as projection on bank.Accessions;
}
